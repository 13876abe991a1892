package act

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Change is one component brought from one version to another. What is wanted is frozen here: exact version and hash.
type Change struct {
	Component estate.Key        `json:"component"`
	Device    string            `json:"device,omitempty"`
	From      string            `json:"from,omitempty"` // empty: it is installed
	To        string            `json:"to,omitempty"`   // empty: it is removed
	Restart   catalogue.Restart `json:"restart"`
	File      string            `json:"file,omitempty"`
	SHA256    string            `json:"sha256,omitempty"`
	Size      int64             `json:"size,omitempty"`
	// from 1: what a restart makes possible comes in a later pass
	Pass  int    `json:"pass"`
	Why   string `json:"why"`             // the verdict's word
	Model string `json:"model,omitempty"` // the hardware that it is on
	// Image tells that File is an image from which the host is started once, and Takes how long that usually takes; 0
	// where nobody says.
	Image bool `json:"image,omitempty"`
	// At is where the BMC fetches the image itself; empty: it is served from here.
	At    string        `json:"at,omitempty"`
	Takes time.Duration `json:"takes,omitempty"`
	// Services are those that may be restarted for it: a service that is not named here is left as it is, whatever it
	// runs.
	Services []string `json:"services,omitempty"`
}

// Title is the component with its device.
func (c Change) Title() string {
	return estate.Component{Key: c.Component, Device: c.Device}.Title()
}

// Says returns the change in words, with the services that restart for it.
func (c Change) Says() string {
	says := c.says()
	if c.Restart == catalogue.ServiceRestart && len(c.Services) > 0 {
		says += ", restarts " + strings.Join(c.Services, ", ")
	}
	return says
}

func (c Change) says() string {
	switch {
	case c.From == c.To:
		return c.Title() + " " + c.To + " starts to run"
	case c.To == "":
		return c.Title() + " " + c.From + " is removed"
	case c.From == "":
		return c.Title() + " " + c.To + " is installed"
	}
	says := c.Title() + " " + c.From + " → " + c.To
	if c.Image {
		says += ", by an image that the host starts from once"
	}
	if c.At != "" {
		says += ", which its BMC fetches from " + c.At
	}
	return says
}

// Stale are the services that still run what the change replaced, those that it may restart and the others.
func (c Change) Stale(now estate.Component) (named, others []string) {
	for _, s := range now.Services() {
		if slices.Contains(c.Services, s) {
			named = append(named, s)
		} else {
			others = append(others, s)
		}
	}
	return named, others
}

// Installs tells whether anything has to be put on the host for it; otherwise a restart is all it needs.
func (c Change) Installs() bool { return c.From != c.To }

// Kind is the kind of act that makes the change. Where only the host's restart is needed there is none of its own, and
// the name is empty.
func (c Change) Kind() Name {
	switch {
	case c.Installs() && c.Image:
		return Boot
	case c.Installs() && c.Component.Layer() == estate.Firmware && c.File != "":
		return Flash
	case c.Installs():
		return Install
	case !c.Restart.EmptiesHost():
		return Service
	}
	return ""
}

// Supplied tells whether its file comes from here, and so has to be here, verified.
func (c Change) Supplied() bool { return c.File != "" && c.At == "" }

// Stages tells whether a payload waits on the host before the change is made. An image for a BMC does not: it goes to the
// BMC with the order.
func (c Change) Stages() bool { return c.Kind() == Install && c.File != "" }

// Together tells whether two changes are made by one act: packages of one system in one pass, so that what needs each
// other comes in at once, and all that one image brings.
func (c Change) Together(o Change) bool {
	if c.Kind() == Boot {
		return o.Kind() == Boot && c.Pass == o.Pass && c.SHA256 == o.SHA256
	}
	return c.Pass == o.Pass && c.Kind() == Install && o.Kind() == Install && c.Component.Section() == estate.Packages &&
		c.Component.Kind() == o.Component.Kind()
}

// Place tells whether two changes are made in the same place: to one component of one device.
func (c Change) Place(o Change) bool { return c.Component == o.Component && c.Device == o.Device }

// Next returns the act that makes the first changes of the pass which are not made yet, with all that go in together;
// ok is false where there are none.
func Next(changes []Change, pass int, made func(kind Name, i int) bool) (a Act, ok bool) {
	for i := range changes {
		c := &changes[i]
		switch k := c.Kind(); {
		case c.Pass != pass || k == "" || made(k, i):
		case !ok:
			a, ok = Act{Kind: k, Index: i, Pass: pass, Change: c, Services: c.Services,
				Before: Before{Version: c.From}}, true
		case a.Change.Together(*c):
			a.With = append(a.With, Placed{i, *c})
		}
	}
	return a, ok
}

// Standing returns how the change's component stands on a host, or why that is not known. Where only a part of its
// section was read, what was read of it stands, and what was not is not absent.
func (c Change) Standing(r *estate.Reading) (now estate.Component, unread error) {
	if r == nil {
		return now, errUnlooked
	}
	sec := r.Section(c.Component.Section())
	if sec.Err != "" {
		return now, errors.New(sec.Err)
	}
	now, _ = r.Component(c.Component, c.Device)
	switch {
	case now.Known():
	case now.Unread != "":
		return now, fmt.Errorf("at what %s stands can't be read: %s", c.Title(), now.Unread)
	case sec.Partial != "":
		return now, errors.New(sec.Partial)
	}
	return now, nil
}

var errUnlooked = errors.New("it was not looked at")

// unreadIn returns why not all of the sections can be relied on; nil where all were read. Nothing that is partly read
// says that something is absent.
func unreadIn(r *estate.Reading, sections ...estate.SectionName) error {
	if r == nil {
		return errUnlooked
	}
	for _, s := range sections {
		if sec := r.Section(s); !sec.Whole() {
			return errors.New(sec.Err + sec.Partial)
		}
	}
	return nil
}

func untold(why error) Finding { return Finding{Outcome: Untold, Detail: why.Error()} }

func (t Trace) underWay(says string) Finding {
	return Finding{Outcome: UnderWay, Detail: says, Percent: t.Percent, Left: t.Left}
}

// Same tells whether two changes put the very same thing in the same place, in the same pass.
func (c Change) Same(o Change) bool {
	return c.Component == o.Component && c.Device == o.Device && c.From == o.From && c.To == o.To &&
		c.SHA256 == o.SHA256 && c.At == o.At && c.Restart == o.Restart && c.Pass == o.Pass && slices.Equal(c.Services, o.Services)
}
