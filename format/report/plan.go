package report

import (
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/format/plain"
)

// Plan writes a plan as text, CSV or JSON. words are the options of a command line that plans the same.
func Plan(w io.Writer, p *plan.Plan, words []string, format string) error {
	switch format {
	case "csv":
		return planCSV(w, p)
	case "json":
		return JSON(w, p)
	}
	planText(w, p, words)
	return nil
}

// waysOut writes what would let a host be visited, and beside the first that the round can take what takes it.
func waysOut(w io.Writer, p *plan.Plan, v *plan.Visit, words []string) {
	if len(v.Ways) == 0 {
		plain.Fprintf(w, "   way out: %s\n", v.WayOut)
	}
	taken := false
	for i := range v.Ways {
		how := ""
		if !taken && v.Ways[i].Takeable() {
			taken = true
			how = fmt.Sprintf("  (yare plan %s takes it)",
				strings.Join(slices.Concat([]string{p.Brief.Cluster}, words, []string{"--way", v.Host}), " "))
		}
		plain.Fprintf(w, "   way out: %s%s\n", v.Ways[i].Says(), how)
	}
}

// without are the words of a command line without an option and its value.
func without(words []string, option string) []string {
	i := slices.Index(words, option)
	if i < 0 {
		return words
	}
	return slices.Concat(words[:i], words[min(i+2, len(words)):])
}

// planText writes a plan for reading.
func planText(w io.Writer, p *plan.Plan, words []string) {
	plain.Fprintf(w, "%s: %s\n", p.Brief.Cluster, p.Summary())
	for _, l := range p.Notes() {
		plain.Fprintln(w, l)
	}
	if len(words) > 0 {
		plain.Fprintf(w, "the same: yare plan %s %s\n", p.Brief.Cluster, strings.Join(words, " "))
	}
	switch ready := p.Ready(); {
	case len(p.Visits) == 0:
	case len(ready) == len(p.Visits):
		plain.Fprintf(w, "to carry out just this: yare round start %s --plan %s\n", p.Brief.Cluster, p.Digest()[:12])
	case len(ready) > 0:
		plain.Fprintf(w, "no round starts from this, because of those that can't be visited; of the others alone:\n"+
			"  yare plan %s\n", strings.Join(slices.Concat([]string{p.Brief.Cluster}, without(words, "--hosts"),
			[]string{"--hosts", strings.Join(ready, ",")}), " "))
	}
	for i := range p.Visits {
		v := &p.Visits[i]
		middle, worst := v.Estimate()
		plain.Fprintf(w, "\n%d  %s  about %s, at worst %s", i+1, v.Host, drift.Age(middle), drift.Age(worst))
		if v.Empties {
			plain.Fprintf(w, ", drained (%d moves), restarts %d", len(v.Moves), len(v.Restarts))
		} else {
			fmt.Fprint(w, ", not drained: nothing here needs the host empty")
		}
		plain.Fprintln(w)
		if len(v.After) > 0 {
			plain.Fprintf(w, "   after %s: its guests go there\n", strings.Join(v.After, ", "))
		}
		if v.Obstacle != "" {
			plain.Fprintf(w, "   can't be made: %s\n", v.Obstacle)
			waysOut(w, p, v, words)
		}
		if v.Rehearses {
			plain.Fprintln(w, "   pass 1  a restart before anything is changed")
		}
		for _, c := range v.Changes {
			plain.Fprintf(w, "   pass %d  %s  (%s)\n", c.Pass, c.Says(), c.Why)
		}
		for _, x := range v.Along {
			plain.Fprintf(w, "   pass %d  %s\n", x.Pass, x.Says())
		}
		none, others := v.Backs()
		for _, l := range append(none, others) {
			if l != "" {
				plain.Fprintf(w, "   back    %s\n", l)
			}
		}
		for _, l := range v.Left {
			plain.Fprintf(w, "   left    %s\n", l)
		}
		for _, m := range v.Moves {
			plain.Fprintf(w, "   move    %s → %s\n", m.Guest, m.To)
		}
		for _, m := range v.Back {
			plain.Fprintf(w, "   return  %s from %s\n", m.Guest, m.From)
		}
		for j := range v.Colds {
			plain.Fprintf(w, "   cold    %s\n", v.Colds[j].Says())
		}
		for j := range v.Ejects {
			plain.Fprintf(w, "   eject   %s\n", v.Ejects[j].Says())
		}
		if len(v.Off) > 0 {
			plain.Fprintf(w, "   off     %d powered off, left as they are: %s\n", len(v.Off), strings.Join(v.Off, ", "))
		}
		for j := range v.Rests {
			plain.Fprintf(w, "   rests   %s\n", v.Rests[j].Says())
		}
		for _, c := range v.Answers {
			if c.Level != precheck.Clear {
				plain.Fprintf(w, "   %-7s %s: %s\n", c.Level, c.Check, c.Evidence)
				if c.Waived != nil {
					plain.Fprintf(w, "           %s\n", c.Waived.Says())
				}
			}
		}
	}
	_ = Aside(w, p.Aside) // to memory
}

// planCSV writes every change of a plan as a line (RFC 4180), with a header.
func planCSV(w io.Writer, p *plan.Plan) error {
	rows := [][]string{{"cluster", "turn", "host", "obstacle", "component", "device", "from", "to", "pass",
		"restart", "why", "way back"}}
	for i, v := range p.Visits {
		for _, c := range v.Changes {
			rows = append(rows, []string{p.Brief.Cluster, strconv.Itoa(i + 1), v.Host, v.Obstacle, string(c.Component),
				c.Device, c.From, c.To,
				strconv.Itoa(c.Pass), string(c.Restart), c.Why, wayBack(&v, c)})
		}
	}
	return Rows(w, rows)
}

// wayBack says how a change could be undone; "" for one that puts nothing in.
func wayBack(v *plan.Visit, c act.Change) string {
	for i := range v.WaysBack {
		if w := &v.WaysBack[i]; w.Component == c.Component && w.Device == c.Device {
			return w.Says()
		}
	}
	return ""
}
