package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/harbour"
	"yareharbour/tui"
)

// screens opens the full-screen interface.
func (a *app) screens(ctx context.Context) error {
	return a.with(ctx, func(h *harbour.Harbour) error {
		o := tui.Options{}
		switch os.Getenv("YARE_BACKGROUND") {
		case "light":
			o = tui.Options{Light: true, Fixed: true}
		case "dark":
			o = tui.Options{Fixed: true}
		}
		_, err := tea.NewProgram(tui.New(ctx, h, o), tea.WithContext(ctx)).Run()
		if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
			return nil
		}
		return err
	})
}

// begins is how long a round is given to begin, or to say why it does not: the cluster is read before.
const begins = 2 * time.Minute

// launch has a process of its own run a round, and waits until that tells that it has begun, or why not.
func (a *app) launch(_ context.Context, cluster string, words ...string) error {
	args := append(slices.Clone(words), "--state", a.state)
	if a.estate != "" {
		args = append(args, "--estate", a.estate)
	}
	log := "round-" + cluster + ".log" // where the round's own process writes
	told, err := a.spawn(log, append(args, "--tell", "3")...)
	if err != nil {
		return err
	}
	defer told.Close()
	if err := told.SetReadDeadline(time.Now().Add(begins)); err != nil {
		return err
	}
	var t tale
	switch err := json.NewDecoder(told).Decode(&t); {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return fmt.Errorf("the round did not begin within %s; its own words are in %s", begins, filepath.Join(a.state, log))
	case err != nil:
		return fmt.Errorf("the round's process ended without a word; what it wrote is in %s", filepath.Join(a.state, log))
	case t.Error != "":
		return errors.New(strings.Join(strings.Fields(t.Error), " "))
	}
	return nil
}
