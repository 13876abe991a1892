package expression

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/format/bounds/boundstest"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

func reading() *estate.Reading {
	r := &estate.Reading{Host: "heron", Release: "Brae Linux 4.2", BootedAt: now.Add(-40 * 24 * time.Hour),
		Hardware: estate.Hardware{Model: "Quay 1"}, Capacity: estate.Resources{MemoryMiB: 512 << 10, CPU: 64000},
		Networks: []string{"vts", "storage"}, Kernel: estate.Kernel{Running: "30.4", Installed: "30.6"},
		BMC: estate.BMC{Power: "On"},
		Components: []estate.Component{{Key: "deb:brae-tls", Version: "1.8-brae1"},
			{Key: "deb:telnetd", Version: "0.9"},
			{Key: "fw:lorne-l25", Device: "slot 2", Version: "7.3.1", Model: "Lorne L25"},
			{Key: "fw:lorne-l25", Device: "slot 4", Version: "7.4.2", Model: "Lorne L25"},
			{Key: "drv:tarbet9", Version: "2.5.0"}, {Key: "set:name-server/1", Version: "10.20.0.53"},
			{Key: "set:kernel-argument/iommu", Version: "pt"}},
		Guests: []estate.Guest{{Name: "traffic-db-1", State: estate.Running,
			Load: estate.Resources{MemoryMiB: 64 << 10, CPU: 5000}, Since: now.Add(-400 * 24 * time.Hour),
			Agent: estate.Inner{Name: "brae-agent", Version: "2.3"}},
			{Name: "replay", State: estate.Off, Load: estate.Resources{MemoryMiB: 96 << 10}}},
		Health: []estate.Health{{Item: "fans", OK: true}, {Item: "power supply 2", Detail: "no input"}},
		Condition: estate.Condition{Root: "ext4", Space: []estate.Space{{Path: "/", FreeMiB: 900, SizeMiB: 60000}},
			Bonds: []estate.Bond{{Name: "bond0", Links: []estate.Link{{Name: "a", Up: true}, {Name: "b"}}}}},
	}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now})
	}
	r.Sort()
	return r
}

// wishes are the examples of docs/prechecks/own.md, each with what it says of the reading above.
var wishes = []struct {
	text  string
	holds bool
}{
	{`settings.filter(s, s.name.startsWith("name-server/")).size() >= 2`, false},
	{`!packages.exists(p, p.name == "telnetd")`, false},
	{`packages.all(p, p.name != "brae-tls" || !older(p.key, p.version, "1.9-brae1"))`, false},
	{`firmware.filter(f, f.model == "Lorne L25").all(f, f.version == firmware.filter(g, g.model == "Lorne L25")[0].version)`, false},
	{`now - host.booted < duration("2160h")`, true},
	{`"storage" in host.networks`, true},
	{`settings.exists(s, s.name == "kernel-argument/iommu" && s.version == "pt")`, true},
	{`guests.filter(g, g.state == "running").all(g, g.agent != "")`, true},
	{`guests.filter(g, g.state == "running" && g.memory_mib > 32768).size() <= 4`, true},
	{`condition.space.all(s, s.path != "/" || s.free_mib >= 2048)`, false},
	{`condition.bonds.all(b, b.up == b.links)`, false},
	{`health.filter(h, h.item.startsWith("power supply")).all(h, h.ok)`, false},
}

func TestTwelveWishes(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "prechecks", "own.md"))
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range wishes {
		x, err := CompileCheck(w.text)
		if err != nil {
			t.Errorf("%s: %v", w.text, err)
			continue
		}
		if got, err := x.Holds(t.Context(), reading(), now, time.Hour); err != nil || got != w.holds {
			t.Errorf("%s: %v, %v", w.text, got, err)
		}
		if !strings.Contains(strings.ReplaceAll(string(page), `\|`, "|"), w.text) {
			t.Errorf("the page lacks %s", w.text)
		}
	}
	for name := range variables {
		if !strings.Contains(string(page), "`"+name+"`") {
			t.Errorf("the page lacks the variable %s", name)
		}
	}
}

// Invariant 11: where anything that an expression looks at was not read, it is not evaluated, whatever it would say.
func TestNothingIsConcludedFromNotKnowing(t *testing.T) {
	for _, w := range wishes {
		x, err := CompileCheck(w.text)
		if err != nil || len(x.Needs) == 0 {
			t.Fatal(w.text, err, x)
		}
		for _, s := range x.Needs {
			for name, spoil := range map[string]func(*estate.Reading){
				"failed": func(r *estate.Reading) { r.SetSection(estate.Section{Name: s, At: now, Err: "no answer"}) },
				"partial": func(r *estate.Reading) {
					r.SetSection(estate.Section{Name: s, At: now, Partial: "half of it"})
				},
				"old": func(r *estate.Reading) {
					r.SetSection(estate.Section{Name: s, At: now.Add(-2 * time.Hour)})
				},
			} {
				r := reading()
				spoil(r)
				var unread *UnreadError
				if _, err := x.Holds(t.Context(), r, now, time.Hour); !errors.As(err, &unread) || unread.Section != s {
					t.Errorf("%s with %s %s: %v", w.text, s, name, err)
				}
			}
		}
	}
	x, _ := CompileCheck(`host.name != ""`)
	r := reading()
	r.SetSection(estate.Section{Name: estate.GuestList, At: now, Err: "no answer"})
	if yes, err := x.Holds(t.Context(), r, now, time.Hour); !yes || err != nil {
		t.Errorf("what it does not look at keeps it: %v %v", yes, err)
	}
}

// What is wrong is told with its line and column.
func TestErrorsHaveTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"packages.exists(p, p.name ==":        "line 1, column",
		"packages.exists(\n  p, q.name == 1)": "line 2, column 6: undeclared reference to 'q'",
		"pakages.size() > 0":                  "line 1, column 1: undeclared reference to 'pakages'",
		"older(1, 2, 3)":                      "line 1, column 6: found no matching overload for 'older'",
		"packages.size()":                     "a check says yes or no, and this is of the type int",
		strings.Repeat("1 + ", 4000) + "1":    "it is longer than 8192 bytes",
		"":                                    "line 1",
	} {
		_, err := CompileCheck(text)
		var e *Error
		if !errors.As(err, &e) || !strings.Contains(err.Error(), want) || e.Line < 1 || e.Column < 1 {
			t.Errorf("%.40q: %v, want %q", text, err, want)
		}
	}
}

// Nothing that an expression can be made of hangs.
func TestNoneCanHang(t *testing.T) {
	r := reading()
	for i := range 3000 {
		r.Components = append(r.Components, estate.Component{Key: estate.Key(fmt.Sprint("deb:p", i)), Version: "1"})
	}
	r.Sort()
	for _, text := range []string{
		`packages.all(a, packages.all(b, packages.all(c, a.name + b.name + c.name != "x")))`,
		`packages.map(a, packages.map(b, a.name + b.name)).size() > 0`,
		`packages.all(a, packages.all(b, older(a.key, a.version, b.version) || true))`,
	} {
		x, err := CompileCheck(text)
		if err != nil {
			t.Fatal(err)
		}
		start := time.Now()
		if _, err := x.Holds(t.Context(), r, now, 0); err == nil && strings.Count(text, "all") == 3 {
			t.Errorf("%s came to an end", text)
		}
		if took := time.Since(start); took > 20*patience {
			t.Errorf("%s took %s", text, took)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	x, _ := CompileCheck(`packages.all(a, packages.all(b, a.name != b.name + "x"))`)
	if _, err := x.Holds(ctx, r, now, 0); err == nil {
		t.Error("it went on after its context had ended")
	}
}

func TestValues(t *testing.T) {
	for text, want := range map[string]string{
		`host.name`:                      "heron",
		`host.cores`:                     "64",
		`guests.size()`:                  "2",
		`bmc.power == "On"`:              "true",
		`condition.root`:                 "ext4",
		`drivers[0].runs`:                "2.5.0",
		`older("deb:k", "1.9", "1.10")`:  "true",
		`older("deb:k", "1.10", "1.9")`:  "false",
		`packages.map(p, p.name).size()`: "2",
	} {
		x, err := Compile(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got, cost, err := x.Evaluate(t.Context(), reading(), now, 0); err != nil || fmt.Sprint(got) != want ||
			cost == 0 && strings.Contains(text, "size") {
			t.Errorf("%s: %v (cost %d) %v, want %s", text, got, cost, err, want)
		}
	}
	x, err := Compile(`older("nonsense", "1", "2")`)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := x.Evaluate(t.Context(), reading(), now, 0); err == nil {
		t.Error("a key that is none is taken for one")
	}
}

func FuzzCompile(f *testing.F) {
	for _, w := range wishes {
		f.Add(w.text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		x, err := CompileCheck(text)
		if err != nil {
			return
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		_, _ = x.Holds(ctx, reading(), now, 0)
	})
}

// Expressions that are built to exhaust whoever compiles or evaluates them are refused in a moment.
func TestExpressionsThatExhaust(t *testing.T) {
	for name, text := range map[string]string{
		"brackets": strings.Repeat("(", 4000) + "1" + strings.Repeat(")", 4000),
		"lists":    strings.Repeat("[", 4000) + strings.Repeat("]", 4000),
		"nots":     strings.Repeat("!", 8000) + "true",
		"minuses":  strings.Repeat("-", 8000) + "1",
		"choices":  strings.Repeat("true?", 1500) + "1" + strings.Repeat(":1", 1500),
		"dots":     "host" + strings.Repeat(".a", 4000),
		"sums":     "1" + strings.Repeat("+1", 4000),
		"maps":     strings.Repeat("{1:", 2500) + "1" + strings.Repeat("}", 2500),
	} {
		boundstest.Within(t, 64*len(text), func() {
			if x, err := Compile(text); err == nil {
				_, _, _ = x.Evaluate(t.Context(), &estate.Reading{}, time.Now(), 0)
			}
		})
		if t.Failed() {
			t.Fatal(name)
		}
	}
}
