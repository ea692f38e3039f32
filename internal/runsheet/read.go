package runsheet

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"trevak/internal/fault"
	"trevak/internal/feed"
	"trevak/internal/layout"
	"trevak/internal/storage"
	"trevak/internal/wording"
)

// reader takes a sheet's text apart.
type reader struct {
	ctx    context.Context
	store  storage.Store
	text   []byte
	path   string
	expand func(string) (string, error)
	usual  *feed.Feed
}

// pair is a key and what stands below it.
type pair struct {
	key   string
	line  int64
	value ast.Node
	node  *ast.MappingValueNode
}

func lineOf(n ast.Node) int64 {
	if n == nil || n.GetToken() == nil {
		return 0
	}
	return int64(n.GetToken().Position.Line)
}

func wrong(line int64, way, reason string, args ...any) error {
	e := fault.New(fault.Usage, reason, args...).Try("%s", way)
	e.Line = line
	return e
}

// pairs are the keys of a mapping; each may be there once.
func (r *reader) pairs(n ast.Node, what string) ([]pair, error) {
	var list []*ast.MappingValueNode
	switch n := n.(type) {
	case *ast.MappingNode:
		list = n.Values
	case *ast.MappingValueNode:
		list = []*ast.MappingValueNode{n}
	default:
		return nil, wrong(lineOf(n), "write keys with a colon behind them, a line each", "%s has no keys below it", what)
	}
	var out []pair
	for _, v := range list {
		p := pair{key: strings.Trim(v.Key.String(), `"'`), line: lineOf(v.Key), value: v.Value, node: v}
		if slices.ContainsFunc(out, func(o pair) bool { return o.key == p.key }) {
			return nil, wrong(p.line, "keep one of them", "the key %s is there twice", fault.Quote(p.key))
		}
		out = append(out, p)
	}
	return out, nil
}

// items are those of a list.
func (r *reader) items(p pair) ([]ast.Node, error) {
	list, ok := p.value.(*ast.SequenceNode)
	if !ok {
		return nil, wrong(p.line, "write its items with a hyphen before each", "the key %s has a list below it", p.key)
	}
	return list.Values, nil
}

// texts are a list of texts, or one text.
func (r *reader) texts(p pair) ([]string, error) {
	if _, ok := p.value.(*ast.SequenceNode); !ok {
		one, err := r.one(p)
		return []string{one}, err
	}
	var out []string
	if err := yaml.NodeToValue(p.value, &out); err != nil {
		return nil, wrong(p.line, "write texts with commas between them, in brackets", "the key %s takes a list of texts", p.key)
	}
	return out, nil
}

// one is a single value, as text.
func (r *reader) one(p pair) (string, error) {
	switch v := p.value.(type) {
	case *ast.StringNode:
		return v.Value, nil
	case *ast.LiteralNode:
		return v.Value.Value, nil
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return v.GetToken().Value, nil
	}
	return "", wrong(p.line, "write a single value", "the key %s takes one value", p.key)
}

func (r *reader) duration(p pair) (time.Duration, error) {
	text, err := r.one(p)
	if err != nil {
		return 0, err
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, wrong(p.line, "write it like 30s, 10m or 26h", "the key %s takes a length of time, which %s is not", p.key, fault.Quote(text))
	}
	return d, nil
}

func (r *reader) whole(p pair, least int) (int, error) {
	text, err := r.one(p)
	if err != nil {
		return 0, err
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < least {
		return 0, wrong(p.line, fmt.Sprintf("write a number from %d on", least), "the key %s takes a whole number, which %s is not",
			p.key, fault.Quote(text))
	}
	return n, nil
}

func (r *reader) word(p pair, words ...string) (string, error) {
	text, err := r.one(p)
	if err == nil && !slices.Contains(words, text) {
		err = wrong(p.line, "it takes "+wording.Either(words), "the key %s does not take %s", p.key, fault.Quote(text))
	}
	return text, err
}

func (r *reader) size(p pair) (int64, error) {
	text, err := r.one(p)
	if err != nil {
		return 0, err
	}
	n, err := layout.ParseSize("the key "+p.key, text)
	return n, atLine(err, p.line)
}

// unknown is the error of a key that has no place where it stands.
func unknown(p pair, known []string) error {
	way := "it has " + strings.Join(known, ", ")
	if near := wording.Nearest(p.key, known); len(near) > 0 {
		way = wording.Meant(near)
	}
	return wrong(p.line, way, "the key %s is not known here", fault.Quote(p.key))
}

// fields carries out what a key is for; keys of the others are unknown.
type fields map[string]func(p pair) error

func (r *reader) fill(list []pair, f fields, others ...string) error {
	for _, p := range list {
		do, ok := f[p.key]
		if !ok {
			if slices.Contains(others, p.key) {
				continue
			}
			known := slices.Clone(others)
			for name := range f {
				known = append(known, name)
			}
			slices.Sort(known)
			return unknown(p, known)
		}
		if err := do(p); err != nil {
			return err
		}
	}
	return nil
}

// settings makes a feed of those keys of a list that feed files have.
func (r *reader) settings(list []pair, within string) (*feed.Feed, error) {
	var values []*ast.MappingValueNode
	for _, p := range list {
		if slices.Contains(feedKeys, p.key) {
			values = append(values, p.node)
		}
	}
	if len(values) == 0 {
		return &feed.Feed{Version: feed.Version, Values: map[string][]string{}, Path: r.path}, nil
	}
	return feed.OfNode(ast.Mapping(values[0].Start, false, values...), r.text, r.path, within)
}

// feedKeys are the keys of feed files that feeds of a sheet have too.
var feedKeys = feed.Sections()

// feedFile reads a feed file that the sheet names.
func (r *reader) feedFile(p pair) (*feed.Feed, error) {
	name, err := r.one(p)
	if err != nil {
		return nil, err
	}
	path := storage.From(storage.Dir(r.path), name)
	text, err := feed.ReadBounded(r.ctx, r.store, path)
	if err != nil {
		return nil, wrong(p.line, "name a feed file, from the folder of the sheet on", "the feed file %s cannot be read: %s", path, err)
	}
	f, err := feed.ParseWith(text, r.expand)
	var e *fault.Error
	if errors.As(err, &e) {
		return nil, e.In(path)
	}
	if f != nil {
		f.Path = path
	}
	return f, err
}
