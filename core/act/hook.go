package act

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/span"
)

// Hook is a program of a site's own that runs at a point of a round.
type Hook struct {
	Before bool   `json:"before"` // else after
	Of     string `json:"of"`     // "round", "visit", or a step
	OnHost bool   `json:"on_host,omitempty"`
	// Program is its absolute path, and Args what it is called with: no shell reads them.
	Program string   `json:"program"`
	Args    []string `json:"args,omitempty"`
	// Within is how long it may take before it is ended.
	Within time.Duration `json:"within"`
	// GoOn and Wait are the exit statuses with which the round goes on, and with which it is run again a little later;
	// every other one stops it.
	GoOn []int `json:"go_on"`
	Wait []int `json:"wait,omitempty"`
	// Repeats tells that it may be run again where it is not known how it ended.
	Repeats bool `json:"repeats,omitempty"`
}

// HookWithin is how long a hook may take that says nothing of that.
const HookWithin = time.Minute

// HookPoints are the points of a round before and after which hooks run.
func HookPoints() []string {
	out := []string{"round", "visit"}
	for _, s := range Steps {
		if s != PrecheckStep && s != HookStep {
			out = append(out, string(s))
		}
	}
	return out
}

// Point is when it runs, in words.
func (h *Hook) Point() string {
	return map[bool]string{true: "before ", false: "after "}[h.Before] + h.Of
}

// Says returns it in the words that ParseHook reads.
func (h *Hook) Says() string {
	out := h.Point()
	if h.OnHost {
		out += " on host"
	}
	if h.Within != HookWithin {
		out += " within " + span.String(h.Within)
	}
	if !slices.Equal(h.GoOn, []int{0}) {
		out += " go-on " + statuses(h.GoOn)
	}
	if len(h.Wait) > 0 {
		out += " wait " + statuses(h.Wait)
	}
	if h.Repeats {
		out += " repeatable"
	}
	return out + ": " + strings.Join(append([]string{h.Program}, h.Args...), " ")
}

func statuses(list []int) string {
	var out []string
	for _, n := range list {
		out = append(out, strconv.Itoa(n))
	}
	return strings.Join(out, ",")
}

// ParseHook reads one, as "before visit on host within 2m wait 75: /usr/local/lib/site/pause one two". Words behind the
// program are its arguments, apart by blanks; nothing is quoted.
func ParseHook(text string) (h Hook, err error) {
	head, command, ok := strings.Cut(text, ": ")
	words, call := strings.Fields(head), strings.Fields(command)
	if !ok || len(words) < 2 || len(call) == 0 {
		return h, fmt.Errorf(`%q is no hook: "before visit: /path/of/program arguments" is wanted`, text)
	}
	h = Hook{Before: words[0] == "before", Of: words[1], Program: call[0], Args: call[1:], Within: HookWithin, GoOn: []int{0}}
	switch {
	case words[0] != "before" && words[0] != "after":
		return h, fmt.Errorf("the hook %q: before or after is wanted first", text)
	case !slices.Contains(HookPoints(), h.Of):
		return h, fmt.Errorf("the hook %q: there is nothing called %q; there are %s", text, h.Of, strings.Join(HookPoints(), ", "))
	case !path.IsAbs(h.Program) || path.Clean(h.Program) != h.Program:
		return h, fmt.Errorf("the hook %q: its program is named by its absolute path", text)
	}
	for words = words[2:]; len(words) > 0 && err == nil; {
		word, value := words[0], ""
		words = words[1:]
		if word != "repeatable" && len(words) > 0 {
			value, words = words[0], words[1:]
		}
		switch word {
		case "on":
			if h.OnHost = value == "host"; !h.OnHost && value != "controller" {
				err = fmt.Errorf("it runs on host, or on controller, not on %q", value)
			}
		case "within":
			if h.Within, err = span.Parse(value); err == nil && (h.Within < time.Second || h.Within > 24*time.Hour) {
				err = errors.New("it may take a second to a day")
			}
		case "go-on":
			h.GoOn, err = parseStatuses(value)
		case "wait":
			h.Wait, err = parseStatuses(value)
		case "repeatable":
			h.Repeats = true
		default:
			err = fmt.Errorf("there is no %q; there are on, within, go-on, wait and repeatable", word)
		}
	}
	for _, n := range h.Wait {
		if slices.Contains(h.GoOn, n) {
			err = errors.Join(err, fmt.Errorf("with %d it can't both go on and wait", n))
		}
	}
	switch {
	case err != nil:
	case h.Of == "round" && h.OnHost:
		err = errors.New("what is about the round runs on the controller")
	case h.Of == "round" && !h.Before && (len(h.Wait) > 0 || h.Repeats):
		err = errors.New("after the round nothing is left to wait with")
	}
	if err != nil {
		return h, fmt.Errorf("the hook %q: %w", text, err)
	}
	return h, nil
}

// parseStatuses reads exit statuses. Those with which a shell, timeout(1) or what carries orders out speak for themselves
// are none of a program's own.
func parseStatuses(text string) (out []int, err error) {
	for _, w := range strings.Split(text, ",") {
		n, err := strconv.Atoi(w)
		if err != nil || n < 0 || n > 123 || n >= 70 && n <= 72 {
			return nil, fmt.Errorf("%q is no exit status that can be listed: 0 to 69 and 73 to 123 can", w)
		}
		out = append(out, n)
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// HookFacts is what a hook finds on its standard input, as JSON.
type HookFacts struct {
	V       int      `json:"v"` // of these facts: 1
	Point   string   `json:"point"`
	Round   string   `json:"round"`
	Cluster string   `json:"cluster"`
	By      string   `json:"by"`
	Reason  string   `json:"reason"`
	Host    string   `json:"host"` // of the visit
	Pass    int      `json:"pass,omitempty"`
	Changes []Change `json:"changes"`
	Guests  []string `json:"guests"` // that are on it when it is planned, by name
	Hosts   []string `json:"hosts"`  // of the round's visits
}

// RunHook runs a hook. What its exit status means the hook says; one that is lost only a person can tell, unless the hook
// may be run again.
var RunHook = define("hook", runHook{})

type runHook struct{}

func (runHook) Rules() Rules {
	return Rules{Step: HookStep, Needs: Needs{Alone: true}, Tries: 1,
		Remedy:  "see what the program wants, then resume the round: it is run again",
		Unclear: "see what the program has done, and say whether that was all"}
}

func (runHook) Says(a Act) string {
	where := map[bool]string{true: "there", false: "here"}[a.Hook.OnHost]
	return fmt.Sprintf("hook %s, run %s: %s", a.Hook.Point(), where, path.Base(a.Hook.Program))
}

func (runHook) Takes(a Act) (middle, worst time.Duration) {
	if a.Hook == nil {
		return 5 * time.Second, HookWithin
	}
	return min(5*time.Second, a.Hook.Within), a.Hook.Within
}

func (runHook) Asks(Act) Asks { return Asks{Trace: true} }

func (runHook) Find(a Act, s Seen) Finding {
	t, h := s.Trace, a.Hook
	says := func(what string) string {
		if t.Said == "" {
			return what
		}
		return what + ": " + t.Said
	}
	switch {
	case t.Unasked != "":
		return untold(errors.New(t.Unasked))
	case t.State == Runs || t.State == Taken:
		return t.underWay("it runs")
	case t.State == Ended || t.State == Broke && t.Exit > 0:
		switch {
		case slices.Contains(h.GoOn, t.Exit):
			return Finding{Outcome: Done, Detail: says(fmt.Sprintf("exit status %d", t.Exit))}
		case slices.Contains(h.Wait, t.Exit):
			return Finding{Outcome: NotDone, Again: true, Detail: says(fmt.Sprintf("it says wait, with exit status %d", t.Exit))}
		case t.Exit == 124 || t.Exit == 137:
			return Finding{Outcome: NotDone, Detail: says("it did not end within " + span.String(h.Within) + " and was ended")}
		}
		return Finding{Outcome: NotDone, Detail: says(fmt.Sprintf("exit status %d", t.Exit))}
	case t.State == Broke:
		return Finding{Outcome: NotDone, Detail: t.Error}
	case t.State == Nothing && !s.Accepted:
		return Finding{Outcome: NotDone, Detail: "it was not begun"}
	case h.Repeats:
		return Finding{Outcome: NotDone, Again: true, Detail: "how it ended is lost, and it may be run again"}
	}
	return Finding{Outcome: NeedsPerson, Detail: says("how it ended is lost: " + t.Error)}
}

// Facts are what a hook is told of a visit.
func (h *Hook) Facts(f HookFacts) (json.RawMessage, error) {
	f.V, f.Point = 1, h.Point()
	return json.Marshal(f)
}

// mostSaid is how much of what a program printed is told, in bytes from its end.
const mostSaid = 400

// Tail is the end of what a program printed, in one line.
func Tail(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if n := len(text) - mostSaid; n > 0 {
		text = "… " + strings.ToValidUTF8(text[n:], "")
	}
	return text
}
