package precheck

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// What a host's condition is held to: at the edge, on either side of it, and where it was not read.
func TestConditions(t *testing.T) {
	bond := func(up ...bool) func(*Facts, *estate.Condition) {
		return func(_ *Facts, c *estate.Condition) {
			b := estate.Bond{Name: "bond0"}
			for i, x := range up {
				b.Links = append(b.Links, estate.Link{Name: string(rune('a' + i)), Up: x})
			}
			c.Bonds = []estate.Bond{b}
		}
	}
	ahead := func(d time.Duration) func(*Facts, *estate.Condition) {
		return func(_ *Facts, c *estate.Condition) { c.Ahead = d }
	}
	room := func(path string, free, size int64, kernel bool, stages int64) func(*Facts, *estate.Condition) {
		return func(f *Facts, c *estate.Condition) {
			c.Space = append(c.Space, estate.Space{Path: path, FreeMiB: free, SizeMiB: size})
			f.Kernel, f.StagesMiB = kernel, stages
		}
	}
	array := func(whole, empties bool) func(*Facts, *estate.Condition) {
		return func(f *Facts, c *estate.Condition) {
			c.Arrays, f.Empties = []estate.Array{{Name: "md0", Whole: whole, Detail: "recovery = 3 %"}}, empties
		}
	}
	cert := func(left time.Duration, empties bool) func(*Facts, *estate.Condition) {
		return func(f *Facts, c *estate.Condition) {
			c.Certificates, f.Empties = []estate.Certificate{{Name: "server", Until: now.Add(left)}}, empties
		}
	}
	day := 24 * time.Hour
	worn := func(used int) func(*Facts, *estate.Condition) {
		return func(_ *Facts, c *estate.Condition) { c.Wear = []estate.Wear{{Name: "sda", Used: used}} }
	}
	untold := func(change func(c *estate.Condition)) func(*Facts, *estate.Condition) {
		return func(_ *Facts, c *estate.Condition) { change(c) }
	}
	server := func(mac string) func(*Facts, *estate.Condition) {
		return func(f *Facts, c *estate.Condition) {
			c.Servers = []estate.Server{{At: "/srv", Address: "10.0.0.1", MAC: mac}}
			f.Readings["b"].Guests[0].MACs = []string{"00:aa"}
		}
	}
	for n, c := range []struct {
		check string
		spoil func(*Facts, *estate.Condition)
		level Level
		says  string
	}{
		{"clock", ahead(0), Clear, "agrees"},
		{"clock", ahead(clockCaution - 1), Clear, ""},
		{"clock", ahead(clockCaution), Caution, "10 s ahead of this one"},
		{"clock", ahead(-clockCaution), Caution, "10 s behind this one"},
		{"clock", ahead(clockBlocker - 1), Caution, ""},
		{"clock", ahead(-clockBlocker), Blocker, "5 min behind"},
		{"root", func(_ *Facts, c *estate.Condition) { c.Volatile = true }, Blocker, "does not survive a restart"},
		{"root", func(_ *Facts, c *estate.Condition) { c.Root = "" }, Caution, "could not be known"},
		{"space", room("/boot", bootMiB, 1000, true, 0), Clear, ""},
		{"space", room("/boot", bootMiB-1, 1000, true, 0), Blocker, "/boot has 199 MiB free, and a kernel takes 200"},
		{"space", room("/boot", bootMiB-1, 1000, false, 0), Clear, ""},
		{"space", room("/var", 611, 1000, false, 100), Blocker,
			"/var has 611 MiB free, and what is staged there takes 612"},
		{"space", room("/var", 612, 1000, false, 100), Clear, ""},
		{"space", room("/usr", 811, 1000, false, 100), Blocker, "what is installed takes 812"},
		{"space", room("/srv", 49, 1000, false, 0), Caution, "/srv has 49 of 1000 MiB free"},
		{"space", room("/srv", 50, 1000, false, 0), Clear, ""},
		{"space", func(_ *Facts, c *estate.Condition) { c.Space = nil }, Caution, "no file system was told"},
		{"space", func(f *Facts, c *estate.Condition) { c.Space[0].Path, f.Kernel = "/srv", true }, Caution,
			"the space at /boot could not be known"},
		{"space", func(f *Facts, c *estate.Condition) { c.Space[0].Path, f.StagesMiB = "/usr", 1 }, Caution,
			"the space at /var/lib/yare could not be known"},
		{"storage", array(true, true), Clear, "every array is whole (1)"},
		{"storage", array(false, true), Blocker, "md0: recovery = 3 %"},
		{"storage", array(false, false), Caution, ""},
		{"backup", func(*Facts, *estate.Condition) {}, Clear, "nothing is changed"},
		{"backup", func(f *Facts, c *estate.Condition) {
			f.Keeps = true
			c.Space = []estate.Space{{Path: "/", FreeMiB: 64}}
		}, Clear, "there is room for it"},
		{"backup", func(f *Facts, c *estate.Condition) {
			f.Keeps = true
			c.Space = []estate.Space{{Path: "/", FreeMiB: 63}}
		}, Blocker, "/ has 63 MiB free"},
		{"backup", func(f *Facts, c *estate.Condition) { f.Keeps = true; c.Space = nil }, Caution, "could not be known"},
		{"backup", func(f *Facts, c *estate.Condition) { f.Keeps, f.Unkept = true, "the disk is full" }, Blocker, "here: the disk is full"},
		{"wear", worn(89), Clear, "none of 1 has used 90 %"},
		{"wear", worn(90), Caution, "sda has used 90 % of its life"},
		{"wear", worn(99), Caution, ""},
		{"wear", worn(100), Blocker, "sda has used 100 % of its life"},
		{"wear", func(f *Facts, c *estate.Condition) { worn(100)(f, c); f.Empties = false }, Caution, ""},
		{"wear", func(*Facts, *estate.Condition) {}, Clear, "it has no disk of a kind that wears"},
		{"serves", server("00:aa"), Caution, "/srv is served by g-b, a guest on b: whoever uses it waits"},
		{"serves", func(f *Facts, c *estate.Condition) {
			server("00:aa")(f, c)
			f.Rest = map[string]bool{"g-b": true}
		}, Blocker, "which comes to rest: the host would have nothing from there meanwhile"},
		{"serves", func(f *Facts, c *estate.Condition) {
			server("00:aa")(f, c)
			f.Readings["a"].Guests[0].MACs, f.Readings["b"].Guests[0].MACs = []string{"00:aa"}, nil
			f.Rest = map[string]bool{"g-a": true}
		}, Caution, "which comes to rest last and is started first: what uses it on the host waits"},
		{"serves", server("00:bb"), Clear, "no guest of the cluster serves what it has mounted from elsewhere (1)"},
		{"serves", server(""), Clear, "(1 of 1 are not)"},
		{"bonds", bond(true, true), Clear, "every bond has two links up (1)"},
		{"bonds", bond(true, false), Caution, "bond0: up a, down b"},
		{"bonds", bond(false, false), Caution, "up none, down a, b"},
		{"certificates", cert(certCaution, true), Clear, ""},
		{"certificates", cert(certCaution-1, true), Caution, "server ends on"},
		{"certificates", cert(0, true), Blocker, "server ended on"},
		{"certificates", cert(-day, false), Caution, ""},
		{"certificates", untold(func(c *estate.Condition) {
			c.Certificates = []estate.Certificate{{Name: "server", Unread: "permission denied"}}
		}), Caution, "how long its certificates last could not be known: server: permission denied"},
		{"certificates", untold(func(c *estate.Condition) {
			c.Certificates = []estate.Certificate{{Name: "server", Unread: "permission denied"},
				{Name: "ca", Until: now}}
		}), Blocker, "ca ended on"},
		{"wear", untold(func(c *estate.Condition) {
			c.Wear = []estate.Wear{{Name: "sda", Used: 3}, {Name: "sdb", Unread: "smartctl is not there"}}
		}), Caution, "how worn its disks are could not be known: sdb: smartctl is not there"},
		{"wear", untold(func(c *estate.Condition) {
			c.Wear = []estate.Wear{{Name: "sda", Used: 91}, {Name: "sdb", Unread: "smartctl is not there"}}
		}), Caution, "sda has used 91 %"},
	} {
		f := facts()
		c.spoil(&f, &f.Readings["a"].Condition)
		for _, a := range Host(f, "a") {
			if a.Check == c.check && (a.Level != c.level || !strings.Contains(a.Evidence, c.says) ||
				a.Level != Clear && a.Remedy == "") {
				t.Errorf("%d: %s is %s, %q; want %s, %q", n, c.check, a.Level, a.Evidence, c.level, c.says)
			}
		}
	}
	f := facts()
	f.Readings["a"].SetSection(estate.Section{Name: estate.ConditionItems, At: now, Err: "no answer"})
	unknowns := 0
	for _, a := range Host(f, "a") {
		if a.Unknown && a.Level == Caution && strings.Contains(a.Evidence, "no answer") {
			unknowns++
		}
	}
	if unknowns != 8 {
		t.Errorf("of a condition that was not read %d checks say so", unknowns)
	}
	// What blocked as it was last known blocks still, whether none of it was read now or a part.
	for _, s := range []estate.Section{{Name: estate.ConditionItems, At: now, Err: "no answer"},
		{Name: estate.ConditionItems, At: now, Partial: "half of it"}} {
		f := facts()
		array(false, true)(&f, &f.Readings["a"].Condition)
		look := &estate.Reading{Host: "a"}
		look.SetSection(s)
		f.Readings["a"] = look.Over(f.Readings["a"])
		for _, a := range Host(f, "a") {
			if a.Check == "storage" &&
				(a.Level != Blocker || !a.Unknown ||
					!strings.Contains(a.Evidence,
						"md0: recovery = 3 %; that is as it was last known: "+s.Err+s.Partial)) {
				t.Errorf("%s: %q", a.Level, a.Evidence)
			}
		}
	}
}

func TestUnder(t *testing.T) {
	c := estate.Condition{Space: []estate.Space{{Path: "/"}, {Path: "/var"}, {Path: "/var/lib/yare"}}}
	for path, want := range map[string]string{"/var/lib/yare": "/var/lib/yare", "/var/lib/yarem": "/var",
		"/variant": "/", "/var": "/var", "/boot": "/"} {
		if got := c.Under(path).Path; got != want {
			t.Errorf("%s is under %q, want %q", path, got, want)
		}
	}
}
