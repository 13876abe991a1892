package harbour

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/sim/demo"
	"yareharbour/store"
)

// quiet hears no progress.
func quiet(string) {}

// From a vendor's zip to "these adapters on these hosts are behind, for this reason, and this is the release that mends
// it".
func TestFromABundleToDrift(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), []string{"heron", "lapwing"}, nil); err != nil {
		t.Fatal(err)
	}
	behind := func() int {
		vs, err := h.keptVerdicts(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, v := range vs["lapwing"] {
			if v.Component == "fw:ulva-w31" && v.Outcome == drift.Behind {
				n++
			}
		}
		return n
	}
	if behind() != 0 {
		t.Fatal("lapwing is behind before anything came")
	}
	file := filepath.Join(h.State, filepath.FromSlash(demo.BundleFile))
	b, err := h.Open(t.Context(), file, Signed{}, quiet)
	if err != nil {
		t.Fatal(err)
	}
	if b.NewReleases != 1 || b.NewAdvisories != 0 || behind() != 0 {
		t.Errorf("%d new releases, %d advisories; looking changes nothing", b.NewReleases, b.NewAdvisories)
	}
	if known, err := h.TakeIn(t.Context(), b, quiet); known || err != nil {
		t.Fatal(known, err)
	}
	if behind() != 2 {
		t.Errorf("%d of its two drives are behind", behind())
	}
	again, err := h.Open(t.Context(), file, Signed{}, quiet)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if known, err := h.TakeIn(t.Context(), again, quiet); !known || err != nil {
		t.Errorf("%v %v", known, err)
	}
	p, err := h.Plan(t.Context(), brief(h, "vts", "lapwing"))
	if err != nil || len(p.Visits) != 1 || p.Visits[0].Obstacle != "" {
		t.Errorf("its payload is in the store, so a round can apply it: %+v %v", p.Visits, err)
	}
	if doomed, err := h.Prune(t.Context(),
		Rule{PruneRule: catalogue.PruneRule{Unknown: true, OlderThan: time.Nanosecond, Most: 1}}); err != nil || len(doomed) != 0 {
		t.Errorf("what hosts want is never pruned: %+v %v", doomed, err)
	}
	taken, _ := h.Bundles()
	if _, err := h.TakeOut(t.Context(), taken[0].ID); err != nil || behind() != 0 {
		t.Errorf("taken out again: %d behind, %v", behind(), err)
	}
}

func TestSyncingTheDemosFeeds(t *testing.T) {
	h := open(t)
	due := func() (names []string) {
		all, err := h.Feeds()
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range all {
			if f.Due {
				names = append(names, f.Name)
			}
		}
		return names
	}
	if got := strings.Join(due(), " "); got != "brae-mirror brae-advisories corran-advisories" {
		t.Errorf("due are %s: the others are on demand or off", got)
	}
	old := h.Catalogue()
	results, err := h.Sync(t.Context(), Which{Due: true}, quiet)
	if err != nil || results[0].Name != "brae-mirror" || !results[0].Changed {
		t.Fatal(results, err)
	}
	if h.Catalogue() == old || len(old.Advisories()) != 0 || len(h.Catalogue().Advisories()) != 4 {
		t.Error("a new catalogue takes the place of the old, which stays as it was")
	}
	if due := due(); len(due) != 0 {
		t.Errorf("due again at once: %v", due)
	}
	r := h.Catalogue().Release("deb:lldpd", "1.2-brae1", "", "")
	if r == nil {
		t.Fatal("the mirror's packages are not known")
	}
	if err := h.fetch(t.Context(), r, quiet); err != nil || !h.payloads.Store.Has(r.SHA256) {
		t.Errorf("its payload: %v", err)
	}
	if err := os.WriteFile(filepath.Join(h.State, "feeds", "brae-mirror", "dists", "brae-4", "InRelease"),
		[]byte("forged"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Sync(t.Context(), Which{Names: []string{"brae-rpm", "skerry-firmware"}}, quiet); err != nil {
		t.Error(err)
	}
	if r := h.Catalogue().Release("rpm:brae-tools", "3.1-1", "", ""); r == nil || r.Severity != catalogue.Medium {
		t.Errorf("from the RPM repository: %+v", r)
	}
	b, err := h.Open(t.Context(), filepath.Join(h.State, filepath.FromSlash(demo.FirmwareBundle)), Signed{}, quiet)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.TakeIn(t.Context(), b, quiet); err != nil {
		t.Fatal(err)
	}
	for key, version := range map[estate.Key]string{"fw:skerry-p2": "1.8.4", "fw:skerry-nx": "2.2"} {
		if r := h.Catalogue().Newest(key, "", catalogue.Rule{}); r == nil || r.Version != version ||
			!h.payloads.Store.Has(r.SHA256) {
			t.Errorf("%s from a cabinet or PLDM package: %+v", key, r)
		}
	}
	if _, err := h.Sync(t.Context(), Which{Names: []string{"brae-mirror"}}, quiet); err == nil ||
		!strings.Contains(err.Error(), "signature") {
		t.Errorf("a mirror without a good signature: %v", err)
	}
	if h.Catalogue().Release("deb:lldpd", "1.2-brae1", "", "") == nil {
		t.Error("what was known is lost")
	}
	if _, err := h.feed("nowhere"); err == nil {
		t.Error("a feed that is not there was found")
	}
}

func TestBaselinesInVersions(t *testing.T) {
	h := open(t)
	if _, err := h.Read(t.Context(), []string{"heron", "ibis", "lapwing"}, nil); err != nil {
		t.Fatal(err)
	}
	src, err := h.Source("platform-november")
	if err != nil || src.Version != 1 {
		t.Fatal(src, err)
	}
	edited := strings.Replace(src.Text, "version: 10.0-brae7", "version: 10.2-brae1", 1)
	e, _, err := h.Effect(t.Context(), src.Name, edited)
	if err != nil || e.Worse != 3 {
		t.Fatalf("%s, %v", e.Says(), err)
	}
	if now, _ := h.Source("platform-november"); now.Text != src.Text {
		t.Error("asking for the effect changed it")
	}
	for why, save := range map[string]func() (int, error){
		"needs a reason": func() (int, error) {
			return h.SaveBaseline(t.Context(), src.Name, edited, 1, " ")
		},
		"keeps its name": func() (int, error) {
			return h.SaveBaseline(t.Context(), "other", edited, 0, "x")
		},
		"platform-november.yaml:": func() (int, error) {
			return h.SaveBaseline(t.Context(), src.Name, "baseline: [", 1, "x")
		},
		"somebody else": func() (int, error) {
			return h.SaveBaseline(t.Context(), src.Name, edited, 7, "x")
		},
		"can't be a new": func() (int, error) {
			return h.SaveBaseline(t.Context(), "../x",
				"baseline: ../x\nclauses: [{component: \"deb:a\", posture: never}]\n", 0, "x")
		},
	} {
		if _, err := save(); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%v, want %q", err, why)
		}
	}
	if n, err := h.SaveBaseline(t.Context(), src.Name, edited, 1, "newer ssh"); err != nil || n != 2 {
		t.Fatal(n, err)
	}
	if text, _ := os.ReadFile(src.File); string(text) != edited {
		t.Error("the file does not say what was saved")
	}
	if ch, err := h.CompareVersions(t.Context(), src.Name, 1, 2); err != nil || len(ch) != 1 ||
		ch[0].What != "deb:openssh-server" {
		t.Errorf("%v %v", ch, err)
	}
	// A file that is changed by other hands is noticed, both ways.
	if err := os.WriteFile(src.File, []byte(src.Text), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := h.SaveBaseline(t.Context(), src.Name, edited+"# more\n", 2, "x"); !errors.Is(err,
		store.ErrChanged) {
		t.Errorf("saved over what somebody else wrote: %v", err)
	}
	if err := h.LoadBaselines(t.Context()); err != nil {
		t.Fatal(err)
	}
	if v, err := h.versions.Version(t.Context(), src.Name, 0); err != nil || v.N != 3 ||
		v.By != "file" || v.Text != src.Text {
		t.Errorf("%+v %v", v, err)
	}
	// One that is made here lives beside the state, and can go again.
	own := "baseline: mine\nassign: [vts]\nclauses:\n  - component: deb:crab\n    posture: at least\n" +
		"    version: \"1\"\n"
	if n, err := h.SaveBaseline(t.Context(), "mine", own, 0, "a trial"); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	if vs, _ := h.keptVerdicts(t.Context()); !hasVerdict(vs["heron"], "deb:crab", drift.Absent) {
		t.Error("a new baseline binds at once")
	}
	if err := h.RemoveBaseline(t.Context(), "platform-november"); err == nil {
		t.Error("a baseline of the estate file was removed")
	}
	if err := h.RemoveBaseline(t.Context(), "mine"); err != nil {
		t.Fatal(err)
	}
	if vs, _ := h.keptVerdicts(t.Context()); hasVerdict(vs["heron"], "deb:crab", drift.Absent) {
		t.Error("it binds still")
	}
}

func hasVerdict(vs []drift.Verdict, key estate.Key, o drift.Outcome) bool {
	for _, v := range vs {
		if v.Component == key && v.Outcome == o {
			return true
		}
	}
	return false
}

func TestLookingBack(t *testing.T) {
	h := open(t)
	w := demo.World()
	for _, day := range demo.Days() {
		if err := h.readings.KeepReading(t.Context(), demo.Past(w, day)["dunlin"]); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := h.Read(t.Context(), []string{"dunlin"}, nil); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"dunlin@2026-10-20": "7.3.1", "dunlin@2026-10-31": "7.3.1",
		"dunlin@2026-11-20 12:00": "7.4.0", "dunlin@1h": "7.4.0", "dunlin": "7.4.0"} {
		r, err := h.ReadingAt(t.Context(), name)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if c, _ := r.Component("fw:lorne-l25", "slot 4"); c.Version != want {
			t.Errorf("%s stood at %s, want %s", name, c.Version, want)
		}
	}
	for name, want := range map[string]string{"nobody": "no cluster or host", "dunlin@2020-01-01": "no reading of dunlin is kept",
		"dunlin@soon": "is no time"} {
		if _, err := h.ReadingAt(t.Context(), name); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", name, err, want)
		}
	}
	spans, err := h.Spans(t.Context(), "dunlin")
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, s := range spans {
		if s.Component == "fw:tarbet-s9" {
			got = append(got, s.Version)
		}
	}
	if strings.Join(got, " ") != "5.2.0 4.19.0" {
		t.Errorf("%v", got)
	}
}

func TestNewDriftSinceTheLastLook(t *testing.T) {
	h := open(t)
	read := func() map[string][]drift.Verdict {
		rs, err := h.Read(t.Context(), []string{"knot", "lapwing"}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return h.Check(h.Checker(), rs)
	}
	vs := read()
	if n, err := h.News(t.Context(), "vts", vs); err != nil || !n.Since.IsZero() || len(n.Drift) != 0 {
		t.Errorf("nobody looked yet: %+v %v", n, err)
	}
	if err := h.MarkSeen(t.Context(), "vts"); err != nil {
		t.Fatal(err)
	}
	if n, err := h.News(t.Context(), "vts", read()); err != nil || len(n.Drift) != 0 || n.By != "tester" {
		t.Errorf("%+v %v", n, err)
	}
	s, _ := h.Source("settings")
	if _, err := h.SaveBaseline(t.Context(), "settings", strings.Replace(s.Text, "value: drop", "value: reject", 1),
		s.Version, "x"); err != nil {
		t.Fatal(err)
	}
	if n, err := h.News(t.Context(), "vts", read()); err != nil || len(n.Drift) != 2 {
		t.Errorf("%+v %v", n, err)
	}
	if trend, err := h.tallies.Trend(t.Context(), "vts", time.Time{}); err != nil || len(trend) < 2 ||
		trend[len(trend)-1].Drift[estate.Settings] != 2 {
		t.Errorf("%+v %v", trend, err)
	}
}

func TestKeptFilters(t *testing.T) {
	h := open(t)
	if err := h.KeepFilter(t.Context(), "urgent", "severity=critical layer=platform"); err != nil {
		t.Fatal(err)
	}
	f, err := h.Narrow(t.Context(), "@urgent host=h*")
	if err != nil || f.String() != "severity=critical layer=platform host=h*" {
		t.Errorf("%q %v", f, err)
	}
	for _, bad := range [][2]string{{"", "x"}, {"a b", "x"}, {"x", "colour=red"}, {"x", "@urgent"}} {
		if err := h.KeepFilter(t.Context(), bad[0], bad[1]); err == nil {
			t.Errorf("%q was kept as %q", bad[1], bad[0])
		}
	}
	if _, err := h.Narrow(t.Context(), "@gone"); err == nil || !strings.Contains(err.Error(), "urgent") {
		t.Errorf("%v", err)
	}
}

// What the estate's own directory of payloads holds is counted beside the store, and where there is none that is nothing.
func TestTheEstatesOwnPayloadsAreCounted(t *testing.T) {
	h := open(t)
	dir := h.payloads.Dir
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) == 0 {
		t.Fatal(err, len(entries))
	}
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "x"), make([]byte, 1<<20), 0o600), os.Mkdir(filepath.Join(dir, "d"), 0o700)); err != nil {
		t.Fatal(err)
	}
	is, err := h.Payloads(t.Context())
	if err != nil || is.Own.Dir != dir || is.Own.Count != len(entries)+1 || is.Own.Size < 1<<20 || len(is.Payloads) != 0 {
		t.Errorf("%v %+v", err, is)
	}
	if err := os.RemoveAll(dir); err != nil {
		t.Fatal(err)
	}
	if is, err = h.Payloads(t.Context()); err != nil || is.Own.Count != 0 {
		t.Errorf("%v %+v", err, is)
	}
}
