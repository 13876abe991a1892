package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
)

// Digest is the SHA-256, in hex, of the plan as it was shown. By whom and why it is carried out is said when it starts,
// and is not in it.
func (p *Plan) Digest() string {
	shown := *p
	shown.Made = shown.Made.UTC()
	shown.Brief.By, shown.Brief.Reason = "", ""
	text, err := json.Marshal(shown)
	if err != nil { // a plan has only what can be marshalled
		panic(err)
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Moved lists what a plan that is made now does otherwise than the one that was shown: the facts have moved since, and
// what was approved is not what would run. It is empty where the one shown still says what would be done.
func Moved(shown, now *Plan) (out []string) {
	add := func(host, format string, args ...any) { out = append(out, host+": "+fmt.Sprintf(format, args...)) }
	order := func(p *Plan) (hosts []string) {
		for i := range p.Visits {
			hosts = append(hosts, p.Visits[i].Host)
		}
		return hosts
	}
	was, is := order(shown), order(now)
	for i := range shown.Visits {
		v := &shown.Visits[i]
		j := slices.Index(is, v.Host)
		if j < 0 {
			add(v.Host, "it would not be visited any more: %s", now.why(v.Host))
			continue
		}
		v.moved(&now.Visits[j], add)
	}
	for i, h := range is {
		if !slices.Contains(was, h) {
			add(h, "it would be visited now, and was not to be: %s", strings.Join(says(now.Visits[i].Changes), ", "))
		}
	}
	if len(out) == 0 && !slices.Equal(was, is) {
		add(shown.Brief.Cluster, "the order would be %s instead of %s", strings.Join(is, ", "), strings.Join(was, ", "))
	}
	return out
}

func (p *Plan) why(host string) string {
	for _, a := range p.Aside {
		if a.Host == host {
			return a.Why
		}
	}
	return "it is not in the cluster"
}

// moved tells what of a visit is otherwise.
func (v *Visit) moved(now *Visit, add func(host, format string, args ...any)) {
	for _, a := range now.Along {
		if !slices.Contains(v.Along, a) {
			add(v.Host, "%s now, which it did not", a.Says())
		}
	}
	for i, c := range v.Changes {
		if !slices.ContainsFunc(now.Changes, c.Same) {
			add(v.Host, "%s would not be done any more", v.Changes[i].Says())
		}
	}
	for i, c := range now.Changes {
		if !slices.ContainsFunc(v.Changes, c.Same) {
			add(v.Host, "%s would be done too", now.Changes[i].Says())
		}
	}
	for i := range now.Rests {
		if !slices.Contains(v.Rests, now.Rests[i]) {
			add(v.Host, "%s, which was not shown", now.Rests[i].Says())
		}
	}
	for i := range now.Uncopies {
		if !slices.Contains(v.Uncopies, now.Uncopies[i]) {
			add(v.Host, "%s, which was not shown", now.Uncopies[i].Says())
		}
	}
	for i := range now.Ejects {
		if e := &now.Ejects[i]; !slices.ContainsFunc(v.Ejects, func(o Eject) bool {
			return o.UID() == e.UID() && slices.Equal(o.Media, e.Media)
		}) {
			add(v.Host, "%s, which was not shown", e.Says())
		}
	}
	for i := range now.Colds {
		if c := &now.Colds[i]; !slices.ContainsFunc(v.Colds, func(o Cold) bool {
			return o.UID() == c.UID() && o.Runs == c.Runs
		}) {
			add(v.Host, "%s, which was not shown", c.Says())
		}
	}
	if v.Empties != now.Empties {
		add(v.Host, "it would %sbe drained", map[bool]string{false: "not "}[now.Empties])
	}
	if now.Obstacle != v.Obstacle && now.Obstacle != "" {
		add(v.Host, "it can't be visited now: %s", now.Obstacle)
	}
	for _, g := range now.Guests {
		if v.Empties && !slices.Contains(v.Guests, g) {
			add(v.Host, "the guest %s has come to it", g)
		}
	}
	for _, g := range v.Guests {
		if v.Empties && !slices.Contains(now.Guests, g) {
			add(v.Host, "the guest %s has left it", g)
		}
	}
}

func says(changes []act.Change) (out []string) {
	for _, c := range changes {
		out = append(out, c.Says())
	}
	return out
}
