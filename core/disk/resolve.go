package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// ErrLink says that a symbolic link is not followed: neither root made it, nor
// who owns what it leads to.
var ErrLink = errors.New("it is a link, and who made it does not own what it leads to")

// ErrNowhere says that a symbolic link leads to nothing.
var ErrNowhere = errors.New("the link leads nowhere")

const mostLinks = 40

// Resolve returns an absolute path without symbolic links. It follows a link,
// wherever on the way it stands, only where root made it or who owns what it
// leads to, so that no user of the host has another's file taken for his own.
// What it returns must be opened by [OpenRegular] or [ReadFolder], which follow
// none: a folder that is changed for a link since is not entered.
func Resolve(path string) (string, error) { return resolve(path, mostLinks) }

func resolve(path string, links int) (string, error) {
	path = filepath.Clean(path)
	done := filepath.VolumeName(path) + separator
	for _, part := range strings.Split(strings.TrimPrefix(path, done), separator) {
		next := filepath.Join(done, part)
		st, err := os.Lstat(next)
		if err != nil {
			return "", err
		}
		if !isLink(st) {
			done = next
			continue
		}
		if links--; links < 0 {
			return "", &fs.PathError{Op: "follow", Path: path, Err: errors.New("too many links lead on")}
		}
		if done, err = follow(next, done, st, links); err != nil {
			return "", err
		}
	}
	return done, nil
}

// follow returns where a link in a folder leads to.
func follow(link, folder string, st fs.FileInfo, links int) (string, error) {
	to, err := os.Readlink(link)
	if err != nil {
		return "", err
	}
	if !filepath.IsAbs(to) {
		to = filepath.Join(folder, to)
	}
	real, err := resolve(to, links)
	if errors.Is(err, fs.ErrNotExist) {
		return "", ErrNowhere
	}
	if err != nil {
		return "", err
	}
	target, err := os.Lstat(real)
	if err != nil {
		return "", ErrNowhere
	}
	if !isTrusted(link, st, real, target) {
		return "", ErrLink
	}
	return real, nil
}

// ReadFolder calls each with what stands in a folder, a piece at a time, until
// it returns false. No part of the path may be a symbolic link.
func ReadFolder(path string, each func(fs.DirEntry) bool) error {
	f, err := openPlainFolder(path)
	if err != nil {
		return err
	}
	defer f.Close()
	for {
		entries, err := f.ReadDir(1024)
		for _, e := range entries {
			if !each(e) {
				return nil
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
