package disk_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"oakbarrel/core/disk"
	"oakbarrel/core/disk/disktest"
)

func TestWriteFileIsAllOrNothing(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state")
	for n := 1; ; n++ {
		if err := os.WriteFile(path, []byte("old"), 0o600); err != nil {
			t.Fatal(err)
		}
		d := &disktest.Disk{Fault: disktest.DieAt(n)}
		err := disk.WriteFile(d, path, []byte("new content"), 0o600)
		got, _ := os.ReadFile(path)
		if string(got) != "old" && string(got) != "new content" {
			t.Errorf("killed at call %d it holds %q", n, got)
		}
		if err == nil {
			if string(got) != "new content" || d.Calls() != n-1 {
				t.Errorf("%q after %d calls", got, d.Calls())
			}
			return
		}
		if !errors.Is(err, disktest.ErrFault) {
			t.Errorf("killed at call %d: %v", n, err)
		}
	}
}

func TestRenameNewReplacesNothing(t *testing.T) {
	dir := t.TempDir()
	from, to := filepath.Join(dir, "from"), filepath.Join(dir, "to")
	os.WriteFile(from, []byte("from"), 0o600)
	os.WriteFile(to, []byte("to"), 0o600)
	if err := disk.OS.RenameNew(from, to); !errors.Is(err, fs.ErrExist) {
		t.Errorf("over a file: %v", err)
	}
	if b, _ := os.ReadFile(to); string(b) != "to" {
		t.Errorf("it holds %q", b)
	}
	os.Remove(to)
	if err := disk.OS.RenameNew(from, to); err != nil {
		t.Error(err)
	}
	if err := disk.OS.RenameNew(from, to); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("of a missing file: %v", err)
	}
}

func TestOnlyRegularFilesAreOpened(t *testing.T) {
	dir := t.TempDir()
	for name, make := range map[string]func(path string) error{
		"symbolic link":      func(p string) error { return os.Symlink(filepath.Join(dir, "target"), p) },
		"not a regular file": func(p string) error { return syscall.Mknod(p, syscall.S_IFIFO|0o600, 0) },
		"is a directory":     func(p string) error { return os.Mkdir(p, 0o700) },
		"this is not a regular file": func(p string) error { // a socket
			fd, err := syscall.Socket(syscall.AF_UNIX, syscall.SOCK_DGRAM, 0)
			if err != nil {
				return err
			}
			defer syscall.Close(fd)
			return syscall.Bind(fd, &syscall.SockaddrUnix{Name: p})
		},
	} {
		path := filepath.Join(dir, strings.ReplaceAll(name, " ", "-"))
		if err := make(path); err != nil {
			t.Fatal(err)
		}
		for _, open := range []func(string, fs.FileMode) (disk.File, error){disk.OS.OpenAppend, disk.OS.Create} {
			f, err := open(path, 0o600)
			if err == nil {
				f.Close()
			}
			if err == nil || !strings.Contains(err.Error(), name) && name != "not a regular file" {
				t.Errorf("%s: %v", name, err)
			}
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "target")); err == nil {
		t.Error("the target of a link was made")
	}
}

func TestRemovingWhatIsGoneIsNoError(t *testing.T) {
	if err := disk.OS.Remove(filepath.Join(t.TempDir(), "gone")); err != nil {
		t.Error(err)
	}
	if err := disk.OS.SyncFolder(filepath.Join(t.TempDir(), "gone")); err == nil {
		t.Error("a folder that is gone is synced")
	}
}

func TestBeneathAFolderNoLinkIsFollowed(t *testing.T) {
	root, elsewhere := t.TempDir(), t.TempDir()
	d := disk.Beneath(root)
	path := filepath.Join(root, "a", "b", "all.log")
	if err := d.MakeFolder(filepath.Dir(path)); err != nil {
		t.Fatal(err)
	}
	f, err := d.OpenAppend(path, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	f.Write([]byte("x"))
	f.Close()
	for _, call := range []func() error{
		func() error { return d.Rename(path, path+".1") }, func() error { return d.RenameNew(path+".1", path) }, func() error { return d.SyncFolder(filepath.Dir(path)) },
		func() error { return d.Remove(path) }, func() error { return d.MakeFolder(root) }, func() error { return d.SyncFolder(root) },
		func() error {
			f, err := d.OpenAppend(filepath.Join(root, "top.log"), 0o600)
			if err == nil {
				f.Close()
			}
			return err
		},
		func() error {
			f, err := d.Create(filepath.Join(elsewhere, "note"), 0o600)
			if err == nil {
				f.Close()
			}
			return err
		}, // as OS
	} {
		if err := call(); err != nil {
			t.Error(err)
		}
	}
	os.Remove(filepath.Join(root, "a", "b"))
	if err := os.Symlink(elsewhere, filepath.Join(root, "a", "b")); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(elsewhere, "all.log"), []byte("of somebody else"), 0o600)
	for name, call := range map[string]func() error{
		"open": func() error { _, err := d.OpenAppend(path, 0o600); return err }, "create": func() error { _, err := d.Create(path, 0o600); return err },
		"remove": func() error { return d.Remove(path) }, "rename": func() error { return d.RenameNew(path, path+".1") }, "folder": func() error { return d.MakeFolder(filepath.Join(root, "a", "b", "c")) },
	} {
		if err := call(); err == nil {
			t.Errorf("%s follows a link", name)
		}
	}
	if b, _ := os.ReadFile(filepath.Join(elsewhere, "all.log")); string(b) != "of somebody else" {
		t.Errorf("it holds %q", b)
	}
}
