package e2e

import (
	"bytes"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Bad input gets a clear error on stderr and the exit code 1, and leaves what is there as it was.
func TestRefusals(t *testing.T) {
	dir := demoState(t, 1)
	if r := run(t, "read", "vts", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	lists := filepath.Join(dir, "lists")
	if err := os.Mkdir(lists, 0o700); err != nil {
		t.Fatal(err)
	}
	write("lists/x_dists_y_Release", "Suite: y\nSHA256:\n 0000000000000000000000000000000000000000000000000000000000000000 5 main/binary-amd64/Packages\n")
	write("lists/x_dists_y_main_binary-amd64_Packages", "Package: a\nVersion: 1\nArchitecture: amd64\n")
	truncated := filepath.Join(dir, "truncated")
	if err := os.Mkdir(truncated, 0o700); err != nil {
		t.Fatal(err)
	}
	write("truncated/x_Packages.gz", "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03\x4b")
	before := kept(t, dir)
	for _, c := range []struct{ name, args, says string }{
		{"unknown cluster", "check marsh", `there is no cluster or host "marsh"`},
		{"unknown host to explain", "explain dodo deb:openssl", `there is no host "dodo"`},
		{"component of no kind", "explain heron openssl", "the kinds are agent, deb, drv"},
		{"component that is not there", "explain heron deb:ssl", "heron has no component deb:ssl"},
		{"broken YAML", "check vts --baseline " + write("broken.yaml", "baseline: x\nclauses:\n  - component: [deb:a\n"), "broken.yaml:"},
		{"unknown field", "check vts --baseline " + write("field.yaml", "baseline: x\nclausess: []\n"), "field.yaml:2:1: unknown field"},
		{"unknown posture", "check vts --baseline " + write("posture.yaml", "baseline: x\nclauses:\n  - component: deb:a\n    posture: maybe\n    version: 1\n"),
			`posture.yaml:4:14: no posture "maybe": expected one of "at least", "exactly", "if present", "never"`},
		{"missing baseline file", "check vts --baseline /nowhere/b.yaml", "/nowhere/b.yaml"},
		{"missing lists directory", "check --local --lists /nowhere", "there is no directory /nowhere; name it with --lists"},
		{"missing keyring", "check --local --keyring /nowhere.gpg", "the keyring: open /nowhere.gpg"},
		{"empty lists directory", "check --local --lists " + t.TempDir(), "there is no Packages file in it"},
		{"mismatching index", "check --local --lists " + lists, "and the Release file says 0000"},
		{"truncated index", "check --local --lists " + truncated, "unexpected EOF"},
		{"baseline of a host half unread", "baseline derive godwit", "godwit can't serve as a model: unread are firmware"},
		{"baseline of no layer", "baseline derive knot --layers paint", `no layer "paint"`},
		{"round over a cluster that is looked at only", "round start yard", `the estate file allows looking at it only; say "act: true"`},
		{"round with obstacles", "round start tides", "godwit: closed: godwit, by night shift"},
		{"round over no cluster", "round start heron", "heron is a host, and a cluster is asked for"},
		{"resume without a round", "round resume vts", "vts had no round yet"},
		{"pause without a round", "round pause vts", "no round runs over vts"},
		{"watch without a round", "round watch vts", "vts had no round yet"},
		{"host of another cluster", "plan vts --hosts ruff", `there is no host "ruff" in vts`},
		{"report of no format", "report drift vts --format docx", `no "docx"; there are text, csv, json, svg, pdf`},
		{"report to nowhere", "report drift vts -o /nowhere/x.txt", "writing the report"},
		{"unknown fault", "sim fault heron sulks", `there is no fault "sulks"`},
		{"no estate file", "check vts --estate /nowhere/estate.yaml", "/nowhere/estate.yaml"},
		{"estate file with a host twice", "check --estate " + write("twice.yaml", "estate: x\nconnector:\n  kind: sim\n  dir: sim\nclusters:\n  - name: a\n    hosts: [h, h]\n"),
			"twice.yaml:7:16: h is in the cluster a already"},
		{"unknown command", "frobnicate", `unknown command "frobnicate"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := run(t, append(strings.Fields(c.args), "--state", dir)...)
			if r.code != 1 || !strings.Contains(r.err, c.says) || r.out != "" {
				t.Errorf("exit %d\nstderr %s\nstdout %s\nwant   %s", r.code, r.err, r.out, c.says)
			}
		})
	}
	if w := world(t, dir); len(w.Acts) > 0 {
		t.Errorf("something was done to the estate: %v", w.Acts)
	}
	if !bytes.Equal(before, kept(t, dir)) {
		t.Error("a refusal changed what the store keeps")
	}
}

// kept is all that the store says of readings and rounds, as text.
func kept(t *testing.T, dir string) []byte {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "yare.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query("SELECT host || ' ' || first || ' ' || hex(parts) FROM readings WHERE host = 'lapwing' UNION SELECT id FROM rounds ORDER BY 1")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	var out bytes.Buffer
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			t.Fatal(err)
		}
		out.WriteString(s + "\n")
	}
	if out.Len() == 0 {
		t.Fatal("nothing is kept at all")
	}
	return out.Bytes()
}

// A baseline derived from a host finds that host in line, and says where its siblings are not.
func TestADerivedBaselineFindsItsModelInLine(t *testing.T) {
	dir := demoState(t, 1)
	file := filepath.Join(t.TempDir(), "good.yaml")
	if r := run(t, "baseline", "derive", "lapwing", "-o", file, "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	if r := run(t, "baseline", "check", file); r.code != 0 || !strings.Contains(r.out, "like-lapwing, clauses ") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "lapwing", "--baseline", file, "--state", dir); r.code != 0 {
		t.Errorf("the model is not in line: exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "heron", "--baseline", file, "--state", dir); r.code != 3 || !strings.Contains(r.out, "fw:corran-bmc") {
		t.Errorf("heron: exit %d\n%s", r.code, r.out)
	}
}

func TestStateOfANewerVersionIsLeftAlone(t *testing.T) {
	dir := demoState(t, 1)
	if r := run(t, "read", "vts", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	file := filepath.Join(dir, "yare.db")
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	r := run(t, "read", "vts", "--state", dir)
	if r.code != 1 || !strings.Contains(r.err, "written by a newer version of yare (its schema is 99") {
		t.Errorf("exit %d: %s", r.code, r.err)
	}
	for _, text := range []string{"this is no database at all, but it is somebody's file"} {
		other := t.TempDir()
		if err := os.WriteFile(filepath.Join(other, "yare.db"), []byte(strings.Repeat(text, 100)), 0o600); err != nil {
			t.Fatal(err)
		}
		r := run(t, "read", "--state", other, "--estate", filepath.Join(dir, "estate.yaml"))
		b, _ := os.ReadFile(filepath.Join(other, "yare.db"))
		if r.code != 1 || !strings.Contains(r.err, "opening the state file") || !strings.HasPrefix(string(b), text) {
			t.Errorf("exit %d: %s; the file now begins %.20q", r.code, r.err, b)
		}
	}
}

func TestEveryCommandHasHelpAndAnExample(t *testing.T) {
	for _, c := range []string{"", "demo", "sim", "sim fault", "sim stop", "read", "check", "explain", "version", "version compare",
		"baseline check", "baseline derive", "baseline schema", "baseline", "round", "report", "plan", "round start", "round resume",
		"round watch", "round pause", "round stop", "report drift", "report round", "report life"} {
		r := run(t, append(strings.Fields(c), "--help")...)
		if r.code != 0 || !strings.Contains(r.out, "Examples:") {
			t.Errorf("yare %s --help: exit %d, no example:\n%s", c, r.code, r.out)
		}
	}
	if r := run(t, "completion", "bash"); r.code != 0 || !strings.Contains(r.out, "yare") {
		t.Error("there is no shell completion")
	}
}
