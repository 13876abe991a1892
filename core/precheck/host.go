package precheck

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

func bmc(f Facts, r *estate.Reading) found {
	if r.BMC.None {
		return caution("no BMC is named for it: its power and its health can't be told, and if it does not come back "+
			"from a restart nobody can prove from here that it is off",
			"name its BMC in the estate file, or be ready to walk there")
	}
	if why := r.Unread(estate.BMCState, f.Now, f.MaxAge); why != "" {
		return unknown(Blocker, "the BMC is unread: "+why,
			"see that the BMC answers; a host whose power can't be told is not restarted")
	}
	left := slices.DeleteFunc(r.BMC.Waits(), func(id string) bool { return slices.Contains(f.Clears, id) })
	if n := len(left); n > 0 {
		return blocker(catalogue.Some(n, "task")+" in the BMC's queue would run at the next restart: "+
			strings.Join(left, ", "),
			"see what they are; yare host clear clears what nobody wants any more").by("host", "tasks", r.Host)
	}
	if len(f.Clears) > 0 {
		return clear("it answers, power is " + r.BMC.Power + "; the visit first clears from its queue " + strings.Join(f.Clears, ", "))
	}
	return clear("it answers, power is " + r.BMC.Power + ", its queue is empty")
}

// boots looks at what the host's BMC would have it start from, and, where it is to start from an image, whether the BMC
// can be given one.
func boots(f Facts, r *estate.Reading) found {
	b := &r.BMC
	why := r.Unread(estate.BMCState, f.Now, f.MaxAge)
	if b.None {
		why = "no BMC is named for it"
	}
	media := strings.Join(b.Media, ", ")
	const remedy = "see who wants that, and take it back at the BMC"
	switch {
	case !f.Restarts:
		return clear("it is not restarted")
	case why != "" && f.Boots:
		return unknown(Blocker, "what its BMC would have it start from is not known: "+why, "an image needs a BMC that answers")
	case b.None:
		return clear("no BMC has it start from anything else")
	case why != "":
		return unknown(Caution, "what its BMC would have it start from is not known: "+why, "look at it before the host restarts")
	case b.BootOnce != "":
		return blocker("its BMC has it start from "+b.BootOnce+" the next time", remedy)
	case media != "" && f.Boots:
		return blocker("its BMC's virtual drive holds "+media, remedy)
	case media != "":
		return caution("its BMC's virtual drive holds "+media, remedy)
	case !f.Boots:
		return clear("it starts as usual")
	case b.Drives == 0:
		return blocker("its BMC has no virtual drive that takes an image", "leave that change out, and bring it in another way")
	case f.Unserved != "":
		return blocker("images can't be served to its BMC: "+f.Unserved,
			"say in the estate file where they are served: images, with listen and url")
	}
	return clear("its BMC's virtual drive is empty, and it starts as usual")
}

func health(f Facts, r *estate.Reading) found {
	if why := r.Unread(estate.HealthItems, f.Now, f.MaxAge); why != "" {
		return unknown(Caution, "health is unread: "+why, "read it again")
	}
	var bad []string
	for _, h := range r.Health {
		if !h.OK {
			bad = append(bad, h.Item+": "+h.Detail)
		}
	}
	if len(r.Health) == 0 {
		return unknown(Caution, "health is unread: not one item was told",
			"see on the host and its BMC whether all is well")
	}
	if why := r.Section(estate.HealthItems).Partial; why != "" {
		bad = append(bad, "not all health was read: "+why)
	}
	if power := Unpowered(r.Health); f.Flashes && len(power) > 0 {
		return blocker("an image would be sent while power or temperature is not well: "+strings.Join(power, "; "),
			"fix it first, or waive it: an image that breaks off may leave the device without one")
	}
	if len(bad) > 0 {
		return caution(strings.Join(bad, "; "), "fix it first, or go on knowing that it may not come back as it was")
	}
	return clear(fmt.Sprintf("%d items, all well", len(r.Health)))
}

// Unpowered are the items about power and temperature that are not well: no image is sent meanwhile.
func Unpowered(all []estate.Health) (out []string) {
	for _, h := range all {
		if !h.OK && !h.Unknown && (strings.HasPrefix(h.Item, "power ") || strings.HasPrefix(h.Item, "temperature")) {
			out = append(out, h.Item+": "+h.Detail)
		}
	}
	return out
}

func pending(f Facts, r *estate.Reading) found {
	for _, c := range r.Components {
		if c.Running != "" {
			return caution(fmt.Sprintf("%s %s is installed and %s runs", c.Key, c.Version, c.Running),
				"the round's restart will settle it")
		}
		if len(c.Holders) > 0 {
			return caution(fmt.Sprintf("%s %s is installed, and %s still run what it replaced", c.Key, c.Version,
				c.Awaits()), "a service restarts, a guest moves away and back")
		}
	}
	for _, s := range []estate.SectionName{estate.Packages, estate.Drivers, estate.FirmwareItems} {
		if why := cmp.Or(r.Unread(s, f.Now, f.MaxAge), r.Section(s).Partial); why != "" {
			return unknown(Caution, fmt.Sprintf("whether what is installed runs is not known: %s is unread: %s",
				s, why), "read it again")
		}
	}
	if why := r.Section(estate.Packages).Unseen(); why != "" {
		return unknown(Caution, why, "have yare look as root: sudo in the estate file")
	}
	return clear("what is installed runs")
}

// packages looks for what is half installed: dpkg and rpm install nothing more until that is mended.
func packages(f Facts, r *estate.Reading) found {
	if why := cmp.Or(r.Unread(estate.Packages, f.Now, f.MaxAge), r.Section(estate.Packages).Partial); why != "" {
		return unknown(Blocker, "packages are unread: "+why, "see that the host answers, then read it again")
	}
	var half []string
	for i := range r.Components {
		if c := &r.Components[i]; c.State != "" && c.Key.Section() == estate.Packages {
			half = append(half, fmt.Sprintf("%s %s is %s", c.Key, c.Version, c.State))
		}
	}
	if len(half) > 0 {
		return blocker(strings.Join(half, "; ")+": nothing else can be installed",
			"on the host, see why and let its package system finish: dpkg --configure -a")
	}
	return clear("nothing is half installed")
}

// unjudged is the answer where what a check needs was not worked out: not knowing clears nothing.
func unjudged() found {
	return unknown(Blocker, "it could not be known: the host was not judged against its baselines and the catalogue",
		"see what keeps the catalogue from being read, then ask again")
}

func dispute(f Facts, r *estate.Reading) found {
	if !f.Judged {
		return unjudged()
	}
	for i := range f.Verdicts {
		if v := &f.Verdicts[i]; v.Host == r.Host && v.Clause != nil && len(v.Clause.Against) > 0 {
			return blocker(fmt.Sprintf("%s: %s wants %s, but %s", v.Component, v.Clause.Baseline, v.Clause.Says(),
				v.Clause.Rivals()),
				"give one of the baselines the lower rank, or take one clause away")
		}
	}
	var open []string
	for i := range f.Verdicts {
		if v := &f.Verdicts[i]; v.Host == r.Host && v.Outcome.Open() {
			open = append(open, v.Title()+" is "+v.Outcome.String())
		}
	}
	if len(open) > 0 {
		says := open[0]
		if len(open) > 1 {
			says += fmt.Sprintf(", and %d more", len(open)-1)
		}
		return unknown(Caution, says+": a visit does not touch it", "yare explain HOST COMPONENT says why")
	}
	return clear("they agree")
}

func payload(f Facts, _ *estate.Reading) found {
	var bad []string
	for file, why := range f.Payloads {
		if why != nil {
			says := why.Error()
			if !strings.Contains(says, file) {
				says = file + ": " + says
			}
			bad = append(bad, says)
		}
	}
	if len(bad) > 0 {
		slices.Sort(bad)
		return blocker(strings.Join(bad, "; "), "fetch it again from its feed")
	}
	return clear(fmt.Sprintf("%d payload(s) verified", len(f.Payloads)))
}

func programs(f Facts, _ *estate.Reading) found {
	var bad []string
	for _, why := range f.Programs {
		if why != nil {
			bad = append(bad, why.Error())
		}
	}
	slices.Sort(bad)
	switch {
	case len(bad) > 0:
		return blocker(strings.Join(bad, "; "), "put it there so that only root and you can write it, or leave the hook out")
	case f.OnHost > 0:
		return clear(fmt.Sprintf("%d of this machine may be run; %d of the host are looked at by it when they run", len(f.Programs), f.OnHost))
	case len(f.Programs) > 0:
		return clear(fmt.Sprintf("%d of this machine may be run", len(f.Programs)))
	}
	return clear("the round has no hooks")
}

func together(f Facts, _ *estate.Reading) found {
	if !f.Judged {
		return unjudged()
	}
	if len(f.Mismatches) == 0 {
		return clear("no compatibility list speaks against what it will have")
	}
	level := Caution
	var out []string
	for _, m := range f.Mismatches {
		if m.Blocks {
			level = Blocker
		}
		out = append(out, fmt.Sprintf("%s, by the list %s: %s", m.Hardware, m.List, m.Why))
	}
	return found{level: level, evidence: strings.Join(out, "; "),
		remedy: "let the baselines want a combination that is on the list, or ask its publisher for a newer list"}
}
