// Package brief is what a brief can say, setting by setting: one table, of which files, options of commands, schemas and
// what the Plan screen offers are made.
package brief

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	spans "yareharbour/core/span"
)

// Kind is the form in which a setting is said.
type Kind string

// The kinds.
const (
	Names    Kind = "names"    // words, in an option apart by commas
	Lines    Kind = "lines"    // texts with blanks, each an option of its own
	Windows  Kind = "windows"  // intervals of ISO 8601, each an option of its own
	Pairs    Kind = "pairs"    // name=text, each an option of its own
	Policies Kind = "policies" // guest,…=what, each an option of its own
	Word     Kind = "word"
	Whole    Kind = "whole number"
	Percent  Kind = "percent"
	Span     Kind = "time"
	Yes      Kind = "yes" // it is so, or it is not said
)

// Many tells whether a setting of the kind may be said more than once.
func (k Kind) Many() bool {
	return slices.Contains([]Kind{Names, Lines, Windows, Pairs, Policies}, k)
}

// Setting is one thing that a brief says, wherever that is: in a file, as an option of a command, in the schema, on the
// Plan screen. All of them are words: what it says is said in as many words as it takes.
type Setting struct {
	Name string // of the option; in a file it has _ for -
	File string // its name in a file, where that is another one
	Kind Kind
	Help string
	// Empties tells that it is about how a host is emptied, and so about work on one host by hand too.
	Empties bool
	Least   int      // of a whole number
	Choice  []string // the words that there are

	unset func(b *plan.Brief)
	take  func(b *plan.Brief, word string, in *time.Location) error // one word more
	words func(b *plan.Brief) []string
}

// Key is the setting's name in a file.
func (s *Setting) Key() string {
	if s.File != "" {
		return s.File
	}
	return strings.ReplaceAll(s.Name, "-", "_")
}

// Words are what the brief says by the setting; none where that is what is usual.
func (s *Setting) Words(b, usual plan.Brief) []string {
	if w := s.words(&b); !slices.Equal(w, s.words(&usual)) {
		return w
	}
	return nil
}

// Says is what the brief says by the setting, usual or not; "" where it says nothing.
func (s *Setting) Says(b plan.Brief) string { return strings.Join(s.words(&b), ", ") }

// Lay has the brief say these words by the setting, and nothing else by it. Times without an offset are of that zone. With
// an error, at is the word that is wrong.
func (s *Setting) Lay(b *plan.Brief, words []string, in *time.Location) (at int, err error) {
	s.unset(b)
	for i, w := range words {
		if len(s.Choice) > 0 && !slices.Contains(s.Choice, w) {
			return i, fmt.Errorf("there is no %s %q; there are %s", s.Name, w, estate.Listed(s.Choice))
		}
		if err := s.take(b, w, in); err != nil {
			return i, err
		}
	}
	return 0, nil
}

// Named is the setting of that option, or nil.
func Named(name string) *Setting {
	i := slices.IndexFunc(Settings, func(s *Setting) bool { return s.Name == name })
	if i < 0 {
		return nil
	}
	return Settings[i]
}

// Settings are all of them, in the order in which they are said.
var Settings = []*Setting{
	list("hosts", Names, "only these hosts", func(b *plan.Brief) *[]string { return &b.Hosts }, text, same),
	list("except", Names, "all hosts but these", func(b *plan.Brief) *[]string { return &b.Except }, text, same),
	emptying(list("send-none", Names, "hosts that are sent no guests; after a failure guests may be restarted there",
		func(b *plan.Brief) *[]string { return &b.SendNone }, text, same)),
	{Name: "order", Kind: Word, Help: "how hosts are put in order: fewest-moves (usual), lightest-first, or least-time: whichever of these is over sooner",
		Choice: slices.Sorted(maps.Keys(orders)),
		unset:  func(b *plan.Brief) { b.Order = plan.FewestMoves },
		take:   func(b *plan.Brief, w string, _ *time.Location) error { b.Order = orders[w]; return nil },
		words:  func(b *plan.Brief) []string { return []string{wordOf(orders, b.Order)} }},
	list("sequence", Names, "hosts that go first, in this order", func(b *plan.Brief) *[]string { return &b.Sequence }, text,
		same),
	{Name: "trial", Kind: Word, Help: "a host that goes before all others",
		unset: func(b *plan.Brief) { b.Trial = "" },
		take:  func(b *plan.Brief, w string, _ *time.Location) error { b.Trial = w; return nil },
		words: func(b *plan.Brief) []string { return nonempty(b.Trial) }},
	span("soak", "how long the host on trial carries guests before the others begin",
		func(b *plan.Brief) *time.Duration { return &b.Soak }),
	span("rehearse", "restart a host once before anything is changed on it, where it has been up for so long",
		func(b *plan.Brief) *time.Duration { return &b.Rehearse }),
	emptying(whole("out-of-service", 1, "hosts that may be out of service at once (usual: 1), counting those that already are: "+
		"that many hosts are worked on in parallel, where the guests fit", func(b *plan.Brief) *int { return &b.Out })),
	whole("leave-failed", 0, "hosts that may be left behind after a failure while the round goes on; they count as out of "+
		"service. 0: it stops with the first", func(b *plan.Brief) *int { return &b.Leaves }),
	emptying(whole("reserve", 0, "hosts that may fail meanwhile (usual: the cluster's own)",
		func(b *plan.Brief) *int { return &b.Reserve })),
	emptying(whole("moves", 1, "migrations at once (usual: the cluster's own, or 2)",
		func(b *plan.Brief) *int { return &b.Moves })),
	emptying(whole("bandwidth", 0, "of one migration, in MiB a second; 0: all that there is",
		func(b *plan.Brief) *int64 { return &b.Bandwidth })),
	emptying(&Setting{Name: "converge", Kind: Word, Help: "what is done about guests whose memory changes faster than it is copied: slow (usual), as-is: they are not " +
		"slowed down, or leave: their host is left as it is where slowing does not help",
		Choice: slices.Sorted(maps.Keys(converges)),
		unset:  func(b *plan.Brief) { b.Converge = plan.SlowDown },
		take:   func(b *plan.Brief, w string, _ *time.Location) error { b.Converge = converges[w]; return nil },
		words:  func(b *plan.Brief) []string { return []string{wordOf(converges, b.Converge)} }}),
	{Name: "home", Kind: Yes, Help: "have guests go back to their host when its visit is over, hosts out one at a time; a " +
		"host on trial has one sent back anyhow",
		unset: func(b *plan.Brief) { b.Home = false },
		take: func(b *plan.Brief, w string, _ *time.Location) (err error) {
			b.Home, err = strconv.ParseBool(w)
			return err
		},
		words: func(b *plan.Brief) []string {
			if b.Home {
				return []string{"true"}
			}
			return nil
		}},
	emptying(&Setting{Name: "limit", Kind: Percent, Help: "percent of its capacity up to which a host is sent guests",
		unset: func(b *plan.Brief) { b.Limit = 0 },
		take: func(b *plan.Brief, w string, _ *time.Location) error {
			n, err := strconv.ParseFloat(w, 64)
			if err != nil || !(n >= 1 && n <= 100) {
				return fmt.Errorf("a limit of %s %%: 1 to 100 is wanted", w)
			}
			b.Limit = n / 100
			return nil
		},
		words: func(b *plan.Brief) []string {
			if b.Limit == 0 {
				return nil
			}
			return []string{strconv.FormatFloat(math.Round(b.Limit*1e6)/1e4, 'f', -1, 64)}
		}}),
	emptying(list("lift", Lines, "a rule about guests, in its words, that does not bind this round",
		func(b *plan.Brief) *[]string { return &b.Lift }, text, same)),
	list("only", Names, "only these components, patterns of them, layer=NAME, class=NAME or baseline=NAME",
		func(b *plan.Brief) *[]plan.Scope { return &b.Only },
		func(w string, _ *time.Location) (plan.Scope, error) { return plan.ParseScope(w) },
		func(s plan.Scope) string { return string(s) }),
	{Name: "release", File: "releases", Kind: Pairs,
		Help:  "component=version: put this in instead of what the baselines want",
		unset: func(b *plan.Brief) { b.Releases = nil },
		take: func(b *plan.Brief, w string, _ *time.Location) error {
			name, version, ok := strings.Cut(w, "=")
			k, err := estate.ParseKey(name)
			if err != nil || !ok || version == "" {
				return fmt.Errorf("%q is no component=version: there is no such component, or no version", w)
			}
			b.Releases = maps.Clone(b.Releases)
			if b.Releases == nil {
				b.Releases = map[estate.Key]string{}
			}
			b.Releases[k] = version
			return nil
		},
		words: func(b *plan.Brief) (out []string) {
			for _, k := range slices.Sorted(maps.Keys(b.Releases)) {
				out = append(out, string(k)+"="+b.Releases[k])
			}
			return out
		}},
	emptying(filed("guests", list("guest", Policies, "guest,…=shut-down, =suspend, =eject, =eject-for-good, =cold or =leave: what is done with "+
		"guests that do not move of themselves; with * in a name only with those that can't; * alone brings all of a host to rest",
		func(b *plan.Brief) *[]plan.Policy { return &b.Guests }, parsePolicy,
		func(p plan.Policy) string { return strings.Join(p.Guests, ",") + "=" + wordOf(dos, p.Do) }))),
	filed("snapshots", list("snapshot", Pairs, "guest,…=14d: a snapshot of each is made once it has moved for the last time, and kept for "+
		"so long; until it is removed the guest can't move",
		func(b *plan.Brief) *[]plan.Safety { return &b.Snapshots }, parseSafety,
		func(s plan.Safety) string { return strings.Join(s.Guests, ",") + "=" + spans.String(s.For) })),
	filed("windows", list("window", Windows, "when visits may be under way, as 2026-11-22T22:00/2026-11-23T04:00",
		func(b *plan.Brief) *[]plan.Window { return &b.Windows }, window,
		func(w plan.Window) string { return w.From.Format(time.RFC3339) + "/" + w.To.Format(time.RFC3339) })),
	filed("hooks", list("hook", Lines, "a program that runs at a point of the round, as \"before visit within 2m wait 75: /path/of/program\"",
		func(b *plan.Brief) *[]act.Hook { return &b.Hooks }, func(w string, _ *time.Location) (act.Hook, error) { return act.ParseHook(w) },
		func(h act.Hook) string { return h.Says() })),
	span("clear-tasks", "take tasks out of a BMC's queue that have waited there for so long, before the host is visited",
		func(b *plan.Brief) *time.Duration { return &b.ClearTasks }),
	list("temporary", Lines, "\"stop NAME.service\", \"start NAME.service\" or \"set NAME=NUMBER\", a setting of the kernel: changed for the time of each visit",
		func(b *plan.Brief) *[]act.Lent { return &b.Temporary }, func(w string, _ *time.Location) (act.Lent, error) { return act.ParseLent(w) },
		act.Lent.Says),
	emptying(span("patience", "how long a host is waited for beyond the usual (usual: the cluster's own, or 20m)",
		func(b *plan.Brief) *time.Duration { return &b.Patience })),
}

// The forms that settings have.

func text(w string, _ *time.Location) (string, error) { return w, nil }

func same(w string) string { return w }

func emptying(s *Setting) *Setting { s.Empties = true; return s }

func filed(name string, s *Setting) *Setting { s.File = name; return s }

func list[T any](name string, k Kind, help string, of func(*plan.Brief) *[]T, read func(string, *time.Location) (T, error),
	say func(T) string) *Setting {
	return &Setting{Name: name, Kind: k, Help: help,
		unset: func(b *plan.Brief) { *of(b) = nil },
		take: func(b *plan.Brief, w string, in *time.Location) error {
			v, err := read(w, in)
			*of(b) = append(slices.Clip(*of(b)), v)
			return err
		},
		words: func(b *plan.Brief) (out []string) {
			for _, v := range *of(b) {
				out = append(out, say(v))
			}
			return out
		}}
}

func whole[T int | int64](name string, least int, help string, of func(*plan.Brief) *T) *Setting {
	return &Setting{Name: name, Kind: Whole, Help: help, Least: least, unset: func(b *plan.Brief) { *of(b) = T(least) },
		take: func(b *plan.Brief, w string, _ *time.Location) error {
			n, err := strconv.ParseInt(w, 10, 64)
			*of(b) = T(n)
			if err != nil {
				return fmt.Errorf("%q is no whole number", w)
			}
			return nil
		},
		words: func(b *plan.Brief) []string { return []string{strconv.FormatInt(int64(*of(b)), 10)} }}
}

func span(name, help string, of func(*plan.Brief) *time.Duration) *Setting {
	return &Setting{Name: name, Kind: Span, Help: help, unset: func(b *plan.Brief) { *of(b) = 0 },
		take: func(b *plan.Brief, w string, _ *time.Location) error {
			d, err := spans.Parse(w)
			*of(b) = d
			return err
		},
		words: func(b *plan.Brief) []string {
			if *of(b) == 0 {
				return nil
			}
			return []string{spans.String(*of(b))}
		}}
}

func nonempty(w string) []string {
	if w == "" {
		return nil
	}
	return []string{w}
}

// orders are the words for the orders, and dos those for what is done with a guest.
var (
	orders    = map[string]plan.Order{"fewest-moves": plan.FewestMoves, "lightest-first": plan.LightestFirst, "least-time": plan.LeastTime}
	converges = map[string]plan.Converge{"slow": plan.SlowDown, "as-is": plan.AsItIs, "leave": plan.LeaveIt}
	dos       = map[string]plan.Do{"shut-down": plan.DoShutDown, "suspend": plan.DoSuspend, "eject": plan.DoEject, "eject-for-good": plan.DoEjectOut,
		"cold": plan.DoCold, "leave": plan.DoLeave}
)

func wordOf[T ~string](words map[string]T, v T) string {
	for w, x := range words {
		if x == v {
			return w
		}
	}
	return string(v)
}

func parsePolicy(word string, _ *time.Location) (plan.Policy, error) {
	names, how, ok := strings.Cut(word, "=")
	do, known := dos[how]
	if !ok || names == "" || !known {
		return plan.Policy{}, fmt.Errorf("%q is not guest=shut-down, guest=suspend, guest=eject, guest=eject-for-good, guest=cold or guest=leave", word)
	}
	return plan.Policy{Guests: strings.Split(names, ","), Do: do}, nil
}

func parseSafety(word string, _ *time.Location) (s plan.Safety, err error) {
	names, how, ok := strings.Cut(word, "=")
	if s.For, err = spans.Parse(how); !ok || names == "" || err != nil || s.For <= 0 {
		return s, fmt.Errorf("%q is not guest=time, as tide-gate-1=14d", word)
	}
	s.Guests = strings.Split(names, ",")
	return s, nil
}

// window reads an interval of ISO 8601, as "2026-11-22T22:00/2026-11-23T04:00".
func window(text string, in *time.Location) (w plan.Window, err error) {
	from, to, ok := strings.Cut(text, "/")
	if !ok {
		return w, fmt.Errorf("%q is no window: an interval as 2026-11-22T22:00/2026-11-23T04:00 is wanted", text)
	}
	if w.From, err = moment(from, in); err == nil {
		w.To, err = moment(to, in)
	}
	if err == nil && !w.To.After(w.From) {
		err = fmt.Errorf("the window %s ends before it begins", text)
	}
	return w, err
}

func moment(text string, in *time.Location) (time.Time, error) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(form, text, in); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time: one as 2026-11-22T22:00 is wanted, or with an offset, as "+
		"2026-11-22T22:00:00+01:00", text)
}

// Dos are the words for what is done with guests that do not move of themselves.
func Dos() []string { return slices.Sorted(maps.Keys(dos)) }

// Words are the options of a command line that make the brief what it is, behind the cluster's name. A word that a
// shell would take apart stands in quotes.
func Words(b, usual plan.Brief) (out []string) {
	for _, s := range Settings {
		words := s.Words(b, usual)
		switch {
		case len(words) == 0:
		case s.Kind == Yes:
			out = append(out, "--"+s.Name)
		case s.Kind == Names:
			out = append(out, "--"+s.Name, act.Quoted(strings.Join(words, ",")))
		default:
			for _, w := range words {
				out = append(out, "--"+s.Name, act.Quoted(w))
			}
		}
	}
	return out
}
