package harbour

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/format/baselinefile"
	"yareharbour/store"
)

// InForce returns the baselines that hold.
func (h *house) InForce() (out []baseline.Baseline) {
	for _, s := range h.Sources() {
		out = append(out, s.Baseline)
	}
	return out
}

// Sources returns the baselines that hold, with their files.
func (h *house) Sources() []view.Baseline {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.baselines
}

// Source returns the baseline of that name.
func (h *house) Source(name string) (view.Baseline, error) {
	all := h.Sources()
	i := slices.IndexFunc(all, func(s view.Baseline) bool { return s.Name == name })
	if i < 0 {
		var names []string
		for _, s := range all {
			names = append(names, s.Name)
		}
		return view.Baseline{}, fmt.Errorf("there is no baseline %q; there are %s", name, strings.Join(names, ", "))
	}
	return all[i], nil
}

// Problems names all that baselines speak of and that is not there, as the hosts were last read, and what the catalogue
// takes back or warns of and nothing known is.
func (h Baselines) Problems(ctx context.Context, all []baseline.Baseline) ([]baseline.Problem, error) {
	readings, err := h.newest(ctx)
	if err != nil {
		return nil, err
	}
	return append(h.problems(readings, all), h.strays(h.holdings(readings, h.Checker()))...), nil
}

// ProblemsOf names those of one baseline, held or not: those that are errors keep it from being saved.
func (h Baselines) ProblemsOf(ctx context.Context, b baseline.Baseline) ([]baseline.Problem, error) {
	readings, err := h.newest(ctx)
	if err != nil {
		return nil, err
	}
	return h.problemsOf(readings, b), nil
}

// problems are those with these readings.
func (h *house) problems(readings map[string]*estate.Reading, all []baseline.Baseline) (out []baseline.Problem) {
	w := baseline.World{Clusters: h.Estate.Clusters, Catalogue: h.Catalogue(), Readings: readings, Now: h.Now()}
	for i, b := range all {
		out = append(out, baseline.Look(b, slices.Concat(all[:i], all[i+1:]), w)...)
	}
	return out
}

// strays are what the catalogue takes back or warns of and nothing known is.
func (h *house) strays(held *drift.Holdings) (out []baseline.Problem) {
	for _, says := range h.Catalogue().Strays(held.Has) {
		out = append(out, baseline.Problem{Text: says})
	}
	return out
}

// problemsOf are those of a baseline as a text has it, in the place of the one of its name.
func (h *house) problemsOf(readings map[string]*estate.Reading, b baseline.Baseline) []baseline.Problem {
	all := slices.DeleteFunc(h.InForce(), func(o baseline.Baseline) bool { return o.Name == b.Name })
	return slices.DeleteFunc(h.problems(readings, append(all, b)), func(p baseline.Problem) bool {
		return p.Baseline != b.Name
	})
}

// ownBaselines is the directory of baselines that were made here and are in no estate file.
func (h *house) ownBaselines() string { return filepath.Join(h.State, Kept, "baselines") }

// LoadBaselines reads the baseline files: those that the estate file names, and those that were made here. A file that
// was changed by other hands is kept as a new version.
func (h *house) LoadBaselines(ctx context.Context) error {
	out, err := h.loadBaselines(ctx)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.baselines, h.baselineFault = out, err
	return err
}

// loadBaselines reads all that can be read; the error joins the rest.
func (h *house) loadBaselines(ctx context.Context) ([]view.Baseline, error) {
	files := h.beside(h.file.Baselines)
	own, err := filepath.Glob(filepath.Join(h.ownBaselines(), "*.yaml"))
	errs := []error{err}
	var out []view.Baseline
	for _, file := range append(files, own...) {
		s, err := h.source(ctx, file)
		if i := slices.IndexFunc(out, func(o view.Baseline) bool { return o.Name == s.Name }); i >= 0 && err == nil {
			err = fmt.Errorf("%s and %s both say that they are the baseline %s; give one another name",
				out[i].File, file, s.Name)
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out = append(out, s)
	}
	return out, errors.Join(errs...)
}

// source reads a baseline's file.
func (h *house) source(ctx context.Context, file string) (view.Baseline, error) {
	b, text, err := ReadBaseline(file)
	if err != nil {
		return view.Baseline{}, err
	}
	n, err := h.found(ctx, b.Name, file, text)
	return view.Baseline{Baseline: b, File: file, Text: text, Version: n}, err
}

// found keeps a file's text as a version if it is none yet.
func (h *house) found(ctx context.Context, name, file, text string) (int, error) {
	newest, err := h.versions.Version(ctx, name, 0)
	if err != nil && !errors.Is(err, store.ErrNoVersion) {
		return 0, err
	}
	if newest.N > 0 && newest.Text == text {
		return newest.N, nil
	}
	why := "the file " + filepath.Base(file) + " was changed"
	if newest.N == 0 {
		why = "first read from " + filepath.Base(file)
	}
	n, err := h.versions.KeepVersion(ctx, store.Version{Name: name, At: h.Now(), By: store.ItsFile, Why: why, Text: text},
		newest.N)
	if errors.Is(err, store.ErrChanged) { // another process has just found the same
		newest, err = h.versions.Version(ctx, name, 0)
		return newest.N, err
	}
	return n, err
}

// SaveBaseline writes a baseline's file and keeps what it says as a version after the one numbered after; 0 for a new
// one. It returns that version's number. A text that can't be read, or whose name is another, is refused, and so is one made from a version that is not
// the newest any more.
func (h Baselines) SaveBaseline(ctx context.Context, name, text string, after int, why string) (int, error) {
	if strings.TrimSpace(why) == "" {
		return 0, errors.New("a version of a baseline needs a reason: it is what people will ask for")
	}
	b, err := baselinefile.Parse(name+".yaml", []byte(text))
	if err != nil {
		return 0, err
	}
	if b.Name != name {
		return 0, fmt.Errorf("the text is of the baseline %q, and %q is to be saved; a baseline keeps its name",
			b.Name, name)
	}
	ps, err := h.ProblemsOf(ctx, b)
	if err != nil {
		return 0, err
	}
	var wrong []string
	for _, p := range ps {
		if p.Error {
			wrong = append(wrong, p.String())
		}
	}
	switch len(wrong) {
	case 0:
	case 1:
		return 0, fmt.Errorf("%s; nothing is saved", wrong[0])
	default:
		return 0, fmt.Errorf("%s, and %d errors more; nothing is saved", wrong[0], len(wrong)-1)
	}
	src, err := h.Source(name)
	file := src.File
	if err != nil { // a new one
		if strings.ContainsAny(name, "/\\\x00") || strings.HasPrefix(name, ".") {
			return 0, fmt.Errorf("%q can't be a new baseline's name: it is a file's name too", name)
		}
		if err := os.MkdirAll(h.ownBaselines(), 0o700); err != nil {
			return 0, err
		}
		file = filepath.Join(h.ownBaselines(), name+".yaml")
		if newest, err := h.versions.Version(ctx, name, 0); err == nil {
			after = newest.N // of one that was there before
		}
	} else if now, err := os.ReadFile(file); err == nil && string(now) != src.Text {
		return 0, fmt.Errorf("the baseline %s: %w: its file %s is not what was read from it; open it again",
			name, store.ErrChanged, file)
	}
	n, err := h.versions.KeepVersion(ctx, store.Version{Name: name, At: h.Now(), By: h.By, Why: why, Text: text},
		after)
	if err != nil {
		return 0, err
	}
	if to, err := filepath.EvalSymlinks(file); err == nil { // a link stays one
		file = to
	}
	if err := renameio.WriteFile(file, []byte(text), 0o600); err != nil {
		return 0, fmt.Errorf("writing the baseline %s: %w", name, err)
	}
	return n, h.LoadBaselines(ctx)
}

// RemoveBaseline takes a baseline away that was made here; its versions stay. One of the estate file is the estate
// file's to remove.
func (h Baselines) RemoveBaseline(ctx context.Context, name string) error {
	s, err := h.Source(name)
	if err != nil {
		return err
	}
	if filepath.Dir(s.File) != filepath.Clean(h.ownBaselines()) {
		return fmt.Errorf("the baseline %s is named in the estate file; take %s out of its list of baselines there",
			name, filepath.Base(s.File))
	}
	if err := os.Remove(s.File); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return h.LoadBaselines(ctx)
}

// Effect tells what it would do to the estate, as it was last read, if the baseline of that name said the text, and
// what in the text names what is not there. An empty text is no baseline.
func (h Baselines) Effect(ctx context.Context, name, text string) (drift.Effect, []baseline.Problem, error) {
	if err := h.Unreadable(); err != nil {
		return drift.Effect{}, nil, err
	}
	kept, err := h.newest(ctx)
	if err != nil {
		return drift.Effect{}, nil, err
	}
	var after *baseline.Baseline
	if text != "" {
		b, err := baselinefile.Parse(name+".yaml", []byte(text))
		if err != nil {
			return drift.Effect{}, nil, err
		}
		after = &b
	}
	c := h.Checker()
	e, ps := h.effect(drift.Hold(h.Estate.Clusters, kept, c.Now, c.MaxAge), kept, name, after)
	return e, ps, nil
}

// effect does so for what the readings hold; after is nil where the baseline is taken away.
func (h *house) effect(held *drift.Holdings, readings map[string]*estate.Reading, name string,
	after *baseline.Baseline) (drift.Effect, []baseline.Problem) {
	var before *baseline.Baseline
	if s, err := h.Source(name); err == nil {
		before = &s.Baseline
	}
	var ps []baseline.Problem
	if after != nil {
		ps = h.problemsOf(readings, *after)
	}
	return h.Checker().Edit(held, before, after), ps
}

// CompareVersions says in what a version of a baseline differs from another.
func (h Baselines) CompareVersions(ctx context.Context, name string, from, to int) ([]baseline.Change, error) {
	var two [2]baseline.Baseline
	for i, n := range []int{from, to} {
		v, err := h.Version(ctx, name, n)
		if err != nil {
			return nil, err
		}
		if two[i], err = parsed(name, &v); err != nil {
			return nil, err
		}
	}
	return baseline.Compare(two[0], two[1]), nil
}

// parsed is the baseline that a version says.
func parsed(name string, v *view.Version) (baseline.Baseline, error) {
	return baselinefile.Parse(fmt.Sprintf("%s, version %d", name, v.N), []byte(v.Text))
}

// EffectOn tells what it would do to what a view shows if the baseline of that name said the text, and which names in
// it are not there.
func (h Baselines) EffectOn(_ context.Context, e *view.Estate, name, text string) (drift.Effect,
	[]baseline.Problem, error) {
	after, err := baselinefile.Parse(name+".yaml", []byte(text))
	if err != nil {
		return drift.Effect{}, nil, err
	}
	if after.Name != name {
		return drift.Effect{}, nil,
			fmt.Errorf("the text is of the baseline %q; a baseline keeps its name, %q", after.Name, name)
	}
	effect, amiss := h.effect(e.Held, e.Readings, name, &after)
	return effect, amiss, nil
}

// Version is a version of a baseline; 0 is its newest.
func (h Baselines) Version(ctx context.Context, name string, n int) (view.Version, error) {
	v, err := h.versions.Version(ctx, name, n)
	return view.Version{N: v.N, At: v.At, By: v.By, Why: v.Why, Text: v.Text}, err
}

// VersionsOf lists a baseline's versions, the newest first, each with what it changed.
func (h Baselines) VersionsOf(ctx context.Context, name string) ([]view.Version, error) {
	list, err := h.versions.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	out := make([]view.Version, len(list))
	var newer baseline.Baseline
	for i, v := range list {
		if out[i], err = h.Version(ctx, name, v.N); err != nil {
			return nil, err
		}
		if len(list) == 1 {
			break // it changed nothing: it need not even be understood
		}
		b, err := parsed(name, &out[i])
		if err != nil {
			return nil, err
		}
		if i > 0 {
			out[i-1].Changes = baseline.Compare(b, newer)
		}
		newer = b
	}
	return out, nil
}

// Beginning says of what a new baseline is made: of a host that is well, or by a rule.
type Beginning struct {
	Name   string // "": after what it is made of
	Like   string // a host, as it was last read
	Layers []estate.Layer
	baseline.Beginning
	Binds []string
}

// has tells whether a host has a component of a kind.
func has(kept map[string]*estate.Reading, kind string) bool {
	for _, r := range kept {
		if slices.ContainsFunc(r.Components, func(c estate.Component) bool { return c.Key.Kind() == kind }) {
			return true
		}
	}
	return false
}

// Layers are those that a baseline speaks of that is made of a host, where nobody says.
var Layers = []estate.Layer{estate.Platform, estate.Driver, estate.Firmware}

// Kinds are the kinds of components of which a baseline by a rule speaks, where nobody says.
var Kinds = []string{"deb", "rpm", "drv", "fw"}

// Begin makes the text of a new baseline. Nothing is saved.
func (h Baselines) Begin(ctx context.Context, of Beginning) (name, text string, err error) {
	b := baseline.Baseline{}
	switch {
	case of.Like == "":
		name = cmp.Or(of.Name, "new")
		kept, err := h.newest(ctx)
		if err != nil {
			return "", "", err
		}
		of.Kinds = slices.DeleteFunc(slices.Clone(of.Kinds), func(kind string) bool { // what no host has would match nothing
			return len(kept) > 0 && slices.Contains(Kinds, kind) && !has(kept, kind)
		})
		if b, err = baseline.Begin(name, of.Beginning); err != nil {
			return "", "", err
		}
	default:
		if of.Like, _, err = h.Host(of.Like); err != nil {
			return "", "", err
		}
		kept, err := h.readings.Newest(ctx, []string{of.Like})
		if err != nil {
			return "", "", err
		}
		if kept[of.Like] == nil {
			return "", "", fmt.Errorf("%s was never read", of.Like)
		}
		if of.Layers == nil {
			of.Layers = Layers
		}
		name = cmp.Or(of.Name, "like-"+of.Like)
		if b, err = baseline.Derive(kept[of.Like], name, of.Layers); err != nil {
			return "", "", err
		}
	}
	if err != nil {
		return "", "", err
	}
	b.Assign = of.Binds
	body, err := baselinefile.Write(b)
	return name, string(body), err
}

// ReadBaseline reads a baseline file, and returns its text too.
func ReadBaseline(file string) (b baseline.Baseline, text string, err error) {
	all, err := os.ReadFile(file)
	if err != nil {
		return b, "", fmt.Errorf("a baseline: %w", err)
	}
	b, err = baselinefile.Parse(file, all)
	return b, string(all), err
}
