package course

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"yareharbour/core/estate"
)

// Entry is an event as it is kept: its text, and a sum that binds it to the entry before.
type Entry struct {
	Seq  int64
	Text []byte // the event as JSON
	Sum  string // Bind of the sum before and the text
}

// Head is how far a journal goes, as a second place knows it.
type Head struct {
	Seq int64
	Sum string
}

// Bind is the SHA-256, in hex, over the sum of the entry before and the text of this one. Before the first stands the
// round's id.
func Bind(before string, text []byte) string {
	h := sha256.New()
	h.Write([]byte(before))
	h.Write([]byte{'\n'})
	h.Write(text)
	return hex.EncodeToString(h.Sum(nil))
}

// Chain is a reader of a journal's entries, in their order.
type Chain struct {
	head Head
	sums []string // of the entries, from the first
}

// NewChain begins a round's journal.
func NewChain(round string) *Chain { return &Chain{head: Head{Sum: round}} }

// Head returns how far the chain goes.
func (c *Chain) Head() Head { return c.head }

// Sums are the sums of the entries, from the first.
func (c *Chain) Sums() []string { return c.sums }

// Next takes the next entry in and returns its event, or a *Malformed where it is not the one that was written after
// the one before.
func (c *Chain) Next(n Entry) (Event, error) {
	var e Event
	at := c.head.Seq + 1
	switch {
	case n.Seq != at:
		return e, &Malformed{at, fmt.Sprintf("it is missing: entry %d comes after entry %d", n.Seq, c.head.Seq)}
	case Bind(c.head.Sum, n.Text) != n.Sum:
		return e, &Malformed{at, "it is not as it was written, or not in its place: its sum is another"}
	}
	if err := json.Unmarshal(n.Text, &e); err != nil {
		return e, &Malformed{at, "it can't be read: " + err.Error()}
	}
	if e.Seq != at {
		return e, &Malformed{at, fmt.Sprintf("it calls itself number %d", e.Seq)}
	}
	c.head = Head{at, n.Sum}
	c.sums = append(c.sums, n.Sum)
	return e, nil
}

// Reaches returns a *Malformed where the journal that was read is not all of it, by what a second place knows.
func (c *Chain) Reaches(known Head) error {
	switch {
	case known.Seq > c.head.Seq:
		return &Malformed{c.head.Seq + 1, fmt.Sprintf("it is missing: the journal was %d entries long", known.Seq)}
	case known.Seq == c.head.Seq && known.Sum != c.head.Sum:
		return &Malformed{c.head.Seq, "it is not the one that was written last: its sum is another"}
	}
	return nil
}

// Contradicts says how a host's guard shows that this store's journal is not all that was written: it has taken an
// order that the journal does not have. sums are the sums of the round's entries, from the first. It returns nil where
// the two agree, and where the guard is about another round of an earlier epoch; else a *Contradiction.
func Contradicts(host string, g estate.Guard, round string, epoch int64, sums []string) error {
	says := func(format string, args ...any) error {
		return &Contradiction{host, g.Round, g.Epoch, fmt.Sprintf(format, args...)}
	}
	switch {
	case g.Epoch == epoch && g.Round != round && round != "" && g.Round != "":
		return says("%s has taken orders of round %s under the epoch %d, which is this round's: another store's "+
			"runner is at work", host, g.Round, g.Epoch)
	case g.Epoch > epoch:
		return says("%s has taken orders of the epoch %d, and this store knows of %d: another store's runner is at "+
			"work, or this store is an older copy", host, g.Epoch, epoch)
	case g.Round != round || g.Entry == 0:
		return nil
	case g.Entry > int64(len(sums)):
		return says("%s has taken the order of entry %d, and the journal has %d: its end is missing, or this store "+
			"is an older copy", host, g.Entry, len(sums))
	case sums[g.Entry-1] != g.Sum:
		return says("%s has taken the order of another entry %d than the journal has: the journal is another one",
			host, g.Entry)
	}
	return nil
}

// Contradiction is what a host knows that the journal does not have.
type Contradiction struct {
	Host  string
	Round string // whose order the host took last
	Epoch int64  // that the host knows
	Why   string
}

func (c *Contradiction) Error() string { return c.Why }
