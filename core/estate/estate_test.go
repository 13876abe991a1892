package estate

import (
	"strings"
	"testing"
)

func TestWhomARuleMeans(t *testing.T) {
	g := Guest{ID: "u1", Name: "batch-1", Labels: []string{"night", "batch"}}
	for word, want := range map[string]bool{"batch-1": true, "batch-*": true, "u1": true, "#batch": true,
		"#night": true, "batch": false, "#batch-1": false, "#": false, "*": true, "night": false,
		"u*": false, "[": false} {
		if got := (&Rule{Guests: []string{"nobody", word}}).Means(&g); got != want {
			t.Errorf("%q means it: %v", word, got)
		}
	}
}

func TestWhatTiesAGuest(t *testing.T) {
	iso, disk := Disk{Target: "sda", Source: "/x.iso", Media: true, Local: true},
		Disk{Target: "vda", Source: "/a.img", Local: true}
	for _, c := range []struct {
		g             Guest
		tied, ejected string
		rooted        bool
	}{
		{Guest{}, "", "", false},
		{Guest{Disks: []Disk{{Target: "vda", Source: "/srv/a.img"}}}, "", "", false},
		{Guest{Disks: []Disk{iso}}, "in its drive sda is /x.iso, which only its host has", "", false},
		{Guest{Disks: []Disk{disk, iso}},
			"its disk vda is /a.img, which only its host has; in its drive sda is /x.iso, which only its host has",
			"its disk vda is /a.img, which only its host has", true},
		{Guest{Devices: []string{"card"}, Pins: []string{"it has a snapshot"}},
			"it holds card of its host; it has a snapshot", "it holds card of its host; it has a snapshot", true},
		{Guest{Pins: []string{"it has a snapshot"}}, "it has a snapshot", "it has a snapshot", false},
	} {
		if a, b := strings.Join(c.g.Ties(Loosed{}), "; "), strings.Join(c.g.Ties(Loosed{Media: true}), "; "); a != c.tied ||
			b != c.ejected || c.g.Rooted() != c.rooted {
			t.Errorf("%+v: %q, %q, rooted %v", c.g, a, b, c.g.Rooted())
		}
	}
}

// What libvirt offers belongs to the look at its guests: a look at the host alone leaves it as it was, and one that
// fails there keeps it as last known.
func TestWhatGuestsAreOffered(t *testing.T) {
	was := whole(then, "old")
	was.Networks, was.Storages, was.Offer = []string{"br0"}, []string{"san"},
		Offer{Networks: []string{"quay", "br0"}, Features: []string{"pc-q35-9.2"}}
	offers := func(r *Reading) string {
		o := r.Offers()
		return strings.Join(o.Networks, " ") + "; " + strings.Join(o.Storages, " ") + "; " +
			strings.Join(o.Features, " ")
	}
	if got := offers(was); got != "br0 quay; san; pc-q35-9.2" {
		t.Error(got)
	}
	alone := &Reading{Networks: []string{"br1"}}
	alone.SetSection(Section{Name: Host, At: later})
	if got := offers(alone.Over(was)); got != "br0 br1 quay; ; pc-q35-9.2" {
		t.Error(got)
	}
	silent := &Reading{}
	silent.SetSection(Section{Name: GuestList, At: later, Err: "libvirt hangs"})
	if got := offers(silent.Over(was)); got != "br0 quay; san; pc-q35-9.2" {
		t.Error(got)
	}
	now := &Reading{Offer: Offer{Networks: []string{"pier"}}}
	now.SetSection(Section{Name: GuestList, At: later})
	if got := offers(now.Over(was)); got != "br0 pier; san; " {
		t.Error(got)
	}
}
