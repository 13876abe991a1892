package redfish

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
)

// entry is what is looked at of an entry of a log (DSP0268, LogEntry).
type entry struct {
	ref
	Created, Severity, Message, MessageId string
}

// logPages is how many pages of a log are read at most: where the oldest come first the newest may be behind them.
const logPages = 8

// Log is the end of the BMC's logs: of all log services of its managers and of its system, by time.
func (c *Client) Log(ctx context.Context) act.Log {
	out := act.Log{Of: act.LogBMC}
	all, err := c.entries(ctx)
	if err != nil {
		out.Err = c.wrap("reading its logs", err).Error()
	}
	slices.SortStableFunc(all, func(a, b entry) int {
		x, _ := time.Parse(time.RFC3339, a.Created)
		y, _ := time.Parse(time.RFC3339, b.Created)
		return x.Compare(y)
	})
	for _, e := range all[max(0, len(all)-act.LogLines):] {
		says := e.Message
		if says == "" {
			says = e.MessageId
		}
		out.Lines = append(out.Lines, strings.TrimSpace(fmt.Sprintf("%s %s %s", e.Created, e.Severity, says)))
	}
	return out
}

// entries are those of every log service that can be read; the error says what could not be.
func (c *Client) entries(ctx context.Context) (out []entry, err error) {
	managers, lost := c.of(ctx, "Managers", func(s service) ref { return s.Managers })
	if refused(lost, http.StatusNotFound) { // its system may keep its logs
		lost = nil
	}
	systems, gone := c.of(ctx, "Systems", func(s service) ref { return s.Systems })
	failed := errors.Join(lost, gone)
	seen := map[string]bool{}
	for _, k := range append(managers, systems...) {
		var at struct{ LogServices ref }
		if err := c.get(ctx, k.ID, &at); err != nil || at.LogServices.ID == "" {
			failed = errors.Join(failed, err)
			continue
		}
		links, err := c.members(ctx, at.LogServices.ID)
		failed = errors.Join(failed, err)
		for _, l := range links {
			if seen[l.ID] {
				continue
			}
			seen[l.ID] = true
			more, err := c.logOf(ctx, l.ID)
			out, failed = append(out, more...), errors.Join(failed, err)
		}
	}
	if len(seen) == 0 && failed == nil {
		failed = &refusal{status: http.StatusNotFound, message: "it has no log service"}
	}
	return out, failed
}

// logOf are the entries of one log service, as far as the pages that are read hold them.
func (c *Client) logOf(ctx context.Context, at string) (out []entry, err error) {
	var s struct{ Entries ref }
	if err := c.get(ctx, at, &s); err != nil {
		return nil, err
	}
	next := s.Entries.ID
	for range logPages {
		if next == "" {
			break
		}
		var page struct {
			Members []entry
			Next    string `json:"Members@odata.nextLink"`
		}
		if err := c.get(ctx, next, &page); err != nil {
			return out, err
		}
		if page.Members == nil {
			return nil, unlisted(next)
		}
		out, next = append(out, page.Members...), page.Next
	}
	if next != "" {
		err = &refusal{message: at + " has more pages than are read"}
	}
	var links []ref // entries that are not told with the collection
	for _, e := range out[max(0, len(out)-act.LogLines):] {
		if e.Message == "" && e.MessageId == "" && e.Created == "" {
			links = append(links, e.ref)
		}
	}
	if len(links) == 0 {
		return out, err
	}
	told, lost := each[entry](ctx, c, links)
	return told, errors.Join(err, lost)
}
