package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	_ "modernc.org/sqlite" // what a stranger alters a state file with

	"yareharbour/core/view"
	"yareharbour/store"
)

// Whatever somebody does to the state file behind its back is told: a round that is gone, a waiver or a baseline that is
// altered, a logbook that is cut, or written anew.
func TestALogbookAndWhoAltersIt(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 600)
	must := func(args ...string) result {
		t.Helper()
		r := run(t, append(args, "--state", dir)...)
		if r.code != 0 {
			t.Fatalf("%q: exit %d\n%s%s", args, r.code, r.out, r.err)
		}
		return r
	}
	must("round", "start", "vts", "--hosts", "knot", "--reason", "the first")
	noted := filepath.Join(t.TempDir(), "yare.head")
	must("log", "head", "-o", noted)
	if r := run(t, "host", "close", "knot", "--drain", "--reason", "a fan", "--state", dir); r.code != 0 {
		t.Fatalf("exit %d\n%s%s", r.code, r.out, r.err)
	}
	must("waiver", "add", "fulmar", "health", "--for", "4d", "--reason", "known")
	if r := must("log", "verify", "--head", noted); !strings.Contains(r.out, "The logbook is whole") {
		t.Errorf("%s%s", r.out, r.err)
	}
	var rounds []view.RoundLine
	if err := json.Unmarshal([]byte(must("round", "list", "--cluster", "vts", "--json").out), &rounds); err != nil || len(rounds) != 2 {
		t.Fatal(err, rounds)
	}
	if l := rounds[1]; l.Does != "round" || l.HostsDone != 1 || l.Done != 1 || l.Reason != "the first" || l.Took <= 0 || l.Planned <= 0 {
		t.Errorf("%+v", l)
	}
	if l := rounds[0]; l.Does != "close knot" || l.Reason != "a fan" {
		t.Errorf("%+v", l)
	}
	for name, c := range map[string]struct {
		do   string
		says string // apart by |
	}{
		"nothing":                         {"SELECT 1", "The logbook is whole"},
		"a round is removed":              {"DELETE FROM journal WHERE round = '" + rounds[1].ID + "'; DELETE FROM rounds WHERE id = '" + rounds[1].ID + "'", "The logbook is whole|round " + rounds[1].ID + " is not there any more"},
		"a waiver is altered":             {"UPDATE waivers SET body = replace(body, 'known', 'agreed')", "waiver |is not as it was written"},
		"a baseline is altered":           {"UPDATE baselines SET text = text || '# more' WHERE name = 'platform-november'", "version 1 of the baseline platform-november is not as it was written"},
		"a journal is cut":                {"DELETE FROM journal WHERE round = '" + rounds[1].ID + "' AND seq > 4", "entry 5 of the journal"},
		"an entry is altered":             {"UPDATE logbook SET text = replace(text, 'a fan', 'a van') WHERE text LIKE '%a fan%'", "can't be relied on from entry |its sum is another"},
		"its end is cut":                  {"DELETE FROM logbook WHERE n > 8", "can't be relied on from entry 9 on: it is missing"},
		"its end is cut, and its head":    {"DELETE FROM logbook WHERE n > 8; UPDATE logbook_head SET n = 8, sum = (SELECT sum FROM logbook WHERE n = 8)", "can't be relied on from entry 9 on: it is missing: the logbook was"},
		"the same, and no head was noted": {"DELETE FROM logbook WHERE n > 8; UPDATE logbook_head SET n = 8, sum = (SELECT sum FROM logbook WHERE n = 8)", "The logbook is whole|round " + rounds[1].ID + " has no entry in the logbook"},
		"a round is put in":               {"INSERT INTO rounds (id, n, cluster, started, seq, sum) SELECT 'FORGED', 99, cluster, started, 0, '' FROM rounds LIMIT 1", "round FORGED has no entry in the logbook"},
	} {
		at := t.TempDir()
		copied(t, dir, at)
		db, err := sql.Open("sqlite", filepath.Join(at, store.File))
		if err != nil {
			t.Fatal(err)
		}
		_, err = db.ExecContext(context.Background(), c.do)
		if err := db.Close(); err != nil {
			t.Fatal(err)
		}
		if err != nil {
			t.Fatal(name, err)
		}
		args := []string{"log", "verify", "--state", at}
		if !strings.Contains(name, "no head") {
			args = append(args, "--head", noted)
		}
		r := run(t, args...)
		if (r.code == 0) != (name == "nothing") {
			t.Errorf("%s: exit %d\n%s%s", name, r.code, r.out, r.err)
		}
		for _, w := range strings.Split(c.says, "|") {
			if !strings.Contains(r.out, w) {
				t.Errorf("%s: lacks %q:\n%s%s", name, w, r.out, r.err)
			}
		}
	}
	if r := run(t, "log", "verify", "--head", "7:feed", "--state", dir); r.code == 0 || !strings.Contains(r.err, "is no head of a logbook") {
		t.Errorf("exit %d\n%s%s", r.code, r.out, r.err)
	}
}

// copied copies a state file as it is, with what is in its log.
func copied(t *testing.T, from, to string) {
	t.Helper()
	if err := os.Chmod(to, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, end := range []string{"", "-wal"} {
		b, err := os.ReadFile(filepath.Join(from, store.File+end))
		if err == nil {
			err = os.WriteFile(filepath.Join(to, store.File+end), b, 0o600)
		}
		if err != nil && !os.IsNotExist(err) {
			t.Fatal(err)
		}
	}
}
