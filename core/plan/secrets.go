package plan

import (
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"oakbarrel/core/disk"
)

// InTheClear returns the host and port of an address where what is sent there can be
// read on the way: without encryption, to another machine.
func InTheClear(address string) (host string, clear bool) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" || strings.EqualFold(u.Hostname(), "localhost") {
		return "", false
	}
	if ip, err := netip.ParseAddr(u.Hostname()); err == nil && ip.Unmap().IsLoopback() {
		return "", false
	}
	return u.Host, true
}

// How a token in the clear is told, also by doctor.
const (
	InTheClearWhat = "the token goes to %s without encryption, for anybody on the way to read"
	InTheClearMend = "write https:// and let the other side have a certificate"
)

func (r *planReader) warnInTheClear(at Position, address string) {
	if host, clear := InTheClear(address); clear {
		r.warn(at, fmt.Sprintf(InTheClearWhat, host), InTheClearMend)
	}
}

// secret returns the path of a file that holds a secret. One that everybody may read
// is warned of, where the plan is for this machine.
func (r *planReader) secret(e entry, path string) string {
	if r.here && path != "" && disk.IsReadByAll(path) {
		r.warn(e.valueAt(), shorten(path)+" may be read by everybody", disk.KeepFromOthers(shorten(path)))
	}
	return path
}

// hidden stands in the place of a secret.
const hidden = "…"

// Hide returns the text of a plan without what must not be shown: the values of
// headers, and the names and passwords in addresses. Of a text that cannot be read
// nothing is left but a comment.
func Hide(text []byte) []byte {
	s := newSource(string(text))
	docs, problem := s.parseYAML()
	if problem != nil {
		return []byte("# This plan cannot be shown, as it cannot be read here.\n")
	}
	var secrets []ast.Node
	for _, d := range docs {
		ast.Walk(finder(func(n ast.Node, header bool) {
			if header || strings.Contains(scalarText(n), "@") && strings.Contains(scalarText(n), "://") {
				secrets = append(secrets, n)
			}
		}), d.body)
	}
	slices.SortFunc(secrets, func(a, b ast.Node) int { return b.GetToken().Position.Offset - a.GetToken().Position.Offset })
	out := s.text
	for _, n := range secrets {
		start := s.offset(positionOf(n))
		end, ok := endOfScalar(out, start, scalarText(n))
		if _, elsewhere := n.(*ast.AliasNode); elsewhere || !ok {
			return []byte("# This plan cannot be shown, as a secret in it cannot be hidden.\n")
		}
		out = out[:start] + hidden + out[end:]
	}
	return []byte(out)
}

// finder calls each with the scalars of a plan that are values.
type finder func(n ast.Node, header bool)

// Visit implements [ast.Visitor].
func (f finder) Visit(n ast.Node) ast.Visitor {
	if v, ok := n.(*ast.MappingValueNode); ok {
		if strings.EqualFold(v.Key.GetToken().Value, "headers") {
			ast.Walk(finder(func(n ast.Node, _ bool) { f(n, true) }), v.Value)
			return nil
		}
		ast.Walk(f, v.Value)
		return nil
	}
	switch n.(type) {
	case ast.ScalarNode, *ast.AliasNode:
		f(n, false)
	}
	return f
}

func scalarText(n ast.Node) string {
	if s, ok := n.(*ast.StringNode); ok {
		return s.Value
	}
	return n.GetToken().Value
}

// endOfScalar returns where a scalar ends that begins at start, and whether that is sure.
func endOfScalar(text string, start int, value string) (end int, ok bool) {
	rest := text[start:]
	switch {
	case strings.HasPrefix(rest, "'"):
		for i := 1; i < len(rest); i++ {
			if rest[i] == '\'' {
				if strings.HasPrefix(rest[i+1:], "'") {
					i++
					continue
				}
				return start + i + 1, true
			}
		}
		return 0, false
	case strings.HasPrefix(rest, `"`):
		for i := 1; i < len(rest); i++ {
			switch rest[i] {
			case '\\':
				i++
			case '"':
				return start + i + 1, true
			}
		}
		return 0, false
	}
	return start + len(value), value != "" && strings.HasPrefix(rest, value)
}
