package course

import (
	"slices"

	"yareharbour/core/act"
)

// boots has the host start from the image that brings the act's changes: the image goes into its BMC's drive, and then the
// host restarts.
func (t *turn) boots(v *Visit, a act.Act) {
	a.Image = a.Change.File
	if m := v.mounted(); m != nil && m.Image == a.Image && v.inserted() {
		a.URL = m.URL
		t.start(v, a)
		return
	}
	today := t.f.Today[v.Host]
	if a.URL = today.URLs[a.Image]; a.URL == "" {
		if t.busy(v.Host) == 0 && t.fresh(v.Host, everySection...) {
			t.blocked(v, "no address is known at which its BMC would fetch the image "+a.Image+": "+today.Unserved,
				"say in the estate file where images are served, then resume the round")
		}
		return
	}
	a.Kind = act.Mount
	t.start(v, a)
}

// mounted is the image that is in the drive of the host's BMC for the visit, by the act that put it there; nil where none is.
func (v *Visit) mounted() *act.Act {
	i := slices.IndexFunc(v.Owed, func(a act.Act) bool { return a.Kind == act.Mount })
	if i < 0 {
		return nil
	}
	return &v.Owed[i]
}

// inserted tells whether the newest image that was put in has not been taken out since.
func (v *Visit) inserted() (in bool) {
	for _, a := range v.Acts {
		if a.Kind == act.Mount || a.Kind == act.Unmount {
			in = a.Kind == act.Mount
		}
	}
	return in
}

// unmounts takes the image out again once nothing is to start from it any more, and tells whether that is still to be
// done. It is not taken from a host that may be running from it: what an image writes is not interrupted. Where a failure keeps it in, it stays owed.
func (t *turn) unmounts(v *Visit, done bool) bool {
	m := v.mounted()
	if m == nil || v.Unpaid != "" || !done && !v.Did(act.Boot, m.Index) && !v.Without(m.Index) {
		return false
	}
	own := func(kind act.Name) bool {
		return t.count(func(a *act.Act) bool { return a.Host == v.Host && a.Kind == kind }) > 0
	}
	switch {
	case own(act.Boot), own(act.Mount):
		return false
	case !own(act.Unmount) && t.s.failures[act.Act{Host: v.Host, Kind: act.Unmount}.Key()] < act.Unmount.Of().Rules().Tries:
		t.start(v, act.Act{Kind: act.Unmount, Image: m.Image, URL: m.URL})
		return true
	}
	return slices.ContainsFunc(t.s.Open, func(p Pending) bool { return p.Act.Kind == act.Unmount && p.Act.Host == v.Host && !p.Ordered })
}
