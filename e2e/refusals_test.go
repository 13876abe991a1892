package e2e

import (
	"bytes"
	"crypto/sha256"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Bad input gets a clear error on stderr and the exit code 1, and leaves what is there as it was.
func TestRefusals(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60)
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
	write("lists/x_dists_y_Release",
		"Suite: y\nSHA256:\n 0000000000000000000000000000000000000000000000000000000000000000 5 "+
			"main/binary-amd64/Packages\n")
	write("lists/x_dists_y_main_binary-amd64_Packages", "Package: a\nVersion: 1\nArchitecture: amd64\n")
	truncated := filepath.Join(dir, "truncated")
	if err := os.Mkdir(truncated, 0o700); err != nil {
		t.Fatal(err)
	}
	write("truncated/x_Packages.gz", "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03\x4b")
	before, shelves := kept(t, dir), tree(t, filepath.Join(dir, "kept"))
	for _, c := range []struct{ name, args, says string }{
		{"unknown cluster", "check marsh", `there is no cluster or host "marsh"`},
		{"unknown host to explain", "explain dodo deb:brae-tls", `host "dodo"`},
		{"component of no kind", "explain heron brae-tls", "the kinds are agent, deb, drv"},
		{"component that is not there", "explain heron deb:ssl", "heron has no component deb:ssl"},
		{"broken YAML", "check vts --baseline " +
			write("broken.yaml", "baseline: x\nclauses:\n  - component: [deb:a\n"), "broken.yaml:"},
		{"unknown field", "check vts --baseline " + write("field.yaml", "baseline: x\nclausess: []\n"),
			"field.yaml:2:1: unknown field"},
		{"unknown posture", "check vts --baseline " +
			write("posture.yaml", "baseline: x\nclauses:\n  - component: deb:a\n    posture: maybe\n    version: 1\n"),
			`posture.yaml:4:14: no posture "maybe": expected one of "at least", "exactly", "if present", "never"`},
		{"missing baseline file", "check vts --baseline /nowhere/b.yaml", "/nowhere/b.yaml"},
		{"missing lists directory", "check --local --lists /nowhere",
			"there is no directory /nowhere; name it with --lists"},
		{"missing keyring", "check --local --keyring /nowhere.gpg", "the keyring: open /nowhere.gpg"},
		{"empty lists directory", "check --local --lists " + t.TempDir(), "there is no Packages file in it"},
		{"mismatching index", "check --local --lists " + lists, "and the Release file says 0000"},
		{"truncated index", "check --local --lists " + truncated, "unexpected EOF"},
		{"baseline of a host half unread", "baseline start --as godwit",
			"godwit can't serve as a model: unread are firmware"},
		{"baseline of no layer", "baseline start --as knot --layers paint", `there is no layer "paint"`},
		{"round over a cluster that is looked at only", "round start yard",
			`the estate file allows looking at it only; say "act: true"`},
		{"round with obstacles", "round start tides", "godwit: closed: godwit, by night shift"},
		{"round over no cluster", "round start heron", "heron is a host, and a cluster is asked for"},
		{"resume without a round", "round resume vts", "vts had no round yet"},
		{"pause without a round", "round pause vts", "no round runs over vts"},
		{"watch without a round", "round watch vts", "vts had no round yet"},
		{"host of another cluster", "plan vts --hosts ruff", `vts has no host "ruff"`},
		{"report of no format", "report drift vts --format docx", `there is no format "docx"; there are text, csv, json, svg, pdf`},
		{"report to nowhere", "report drift vts -o /nowhere/x.txt", "there is no directory /nowhere"},
		{"unknown fault", "sim fault heron sulks", `there is no fault "sulks"`},
		{"no estate file", "check vts --estate /nowhere/estate.yaml", "/nowhere/estate.yaml"},
		{"estate file with a host twice",
			"check --estate " + write("twice.yaml", "estate: x\nconnector:\n  kind: sim\n  dir: sim\nclusters:\n"+
				"  - name: a\n    hosts: [h, h]\n"),
			"twice.yaml:7:16: h is in the cluster a already"},
		{"bundle that is none", "bundle import --yes " +
			write("no.zip", "hello, this is no archive at all, whatever its name is"),
			"no.zip: the bundle is refused: no.zip is neither a zip nor a tar archive"},
		{"bundle that is not there", "bundle show /nowhere.zip", "open /nowhere.zip"},
		{"bundle that nobody signed", "bundle show " + filepath.Join(dir, "bundles", "ulva-2026q4.zip") +
			" --keyring " + filepath.Join(dir, "feeds", "brae-mirror", "brae.gpg"), "a signature is wanted"},
		{"bundle that was never taken in", "bundle remove abc", `no bundle "abc" was taken in`},
		{"unknown feed", "feed sync nowhere", `there is no feed "nowhere" in the estate file`},
		{"feed at a time that is none", "feed set brae-mirror sometimes", `"sometimes" is no time to sync`},
		{"feed that nobody serves", "feed sync corran-beta",
			"the feed corran-beta: https://mirror.invalid/corran/beta/index.txt"},
		{"prune without a rule", "payload prune", "say by which rule"},
		{"fetch what no feed has", "payload fetch marsh", `there is no cluster or host "marsh"`},
		{"ladder of nothing", "catalogue show fw:nothing", "no feed has a release of fw:nothing, and no host has it"},
		{"ladder of no kind", "catalogue show nothing", "the kinds are"},
		{"narrowing by what is no field", "check vts --narrow colour=red", `there is no field "colour" to narrow by`},
		{"narrowing by what was not kept", "catalogue list --narrow @gone", "no filter is kept as @gone"},
		{"keeping what can't be understood", "filter keep x layer=cloud", `there is no layer "cloud"`},
		{"baseline that is not there", "baseline show nothing",
			"the baseline nothing, version 0: there is no such version"},
		{"saving without a reason", "baseline save " + filepath.Join(dir, "baselines", "yard.yaml"),
			"--why: a version of a baseline needs a reason"},
		{"saving what can't be read",
			"baseline save " + write("bad.yaml", "baseline: b\nclauses:\n  - component: set:x\n"+
				"    posture: at least\n    value: on\n") + " --why x",
			"bad.yaml:3:16: a setting has a value, no version"},
		{"effect of a setting with a version",
			"baseline effect " + write("bad2.yaml", "baseline: b\nclauses:\n  - component: deb:x\n"+
				"    posture: exactly\n    value: on\n"), "only a setting (set:NAME) has a value"},
		{"hardware of a package",
			"baseline effect " + write("bad3.yaml", "baseline: b\nclauses:\n  - component: deb:x\n"+
				"    posture: never\n    hardware: L25\n"), "only drivers and firmware belong to hardware"},
		{"reverting to nothing", "baseline revert yard-stack 9", "version 9: there is no such version"},
		{"removing what the estate file names", "baseline remove yard-stack", "is named in the estate file"},
		{"comparing with nobody", "compare heron dodo", `host "dodo"`},
		{"comparing with a time before all", "compare heron@2001-01-01 heron",
			"no reading of heron is kept from 2001-01-01"},
		{"comparing with no time", "compare heron@soon heron", `"soon" is no time`},
		{"trend of a host", "trend heron", "heron is a host, and a cluster is asked for"},
		{"feed of no kind", "check --estate " +
			write("feed.yaml", "estate: x\nconnector: {kind: sim, dir: sim}\nclusters: [{name: a, hosts: [h]}]\n"+
				"feeds:\n  - name: f\n    kind: ftp\n    at: x\n"),
			`feed.yaml:5:5: the feed "f": there is no kind of feed "ftp"`},
		{"Debian feed without suites",
			"check --estate " + write("feed2.yaml", "estate: x\nconnector: {kind: sim, dir: sim}\n"+
				"clusters: [{name: a, hosts: [h]}]\nfeeds:\n  - {name: f, kind: debian, at: x, architecture: amd64}\n"),
			"is read by its suites"},
		{"advisories that are none", "check --local --advisories " + write("adv.json", "{\"hello\": 1}"),
			"holds no CSAF or OSV advisories"},
		{"unknown command", "frobnicate", `there is no command "frobnicate"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := run(t, append(strings.Fields(c.args), "--state", dir)...)
			if r.code != 1 && r.code != 2 || !strings.Contains(r.err, c.says) || r.out != "" {
				t.Errorf("exit %d\nstderr %s\nstdout %s\nwant   %s", r.code, r.err, r.out, c.says)
			}
		})
	}
	if w := world(t, dir); len(w.Acts) > 0 {
		t.Errorf("something was done to the estate: %v", w.Acts)
	}
	if after := kept(t, dir); !bytes.Equal(before, after) {
		t.Errorf("a refusal changed what the store keeps:\n%s\nis now\n%s", before, after)
	}
	if after := tree(t, filepath.Join(dir, "kept")); after != shelves {
		t.Errorf("a refusal left something behind:\n%s\nin place of\n%s", after, shelves)
	}
}

// tree is every file below a directory but the notes of feeds that could not be synced, with what is in it.
func tree(t *testing.T, dir string) string {
	t.Helper()
	var out strings.Builder
	err := filepath.WalkDir(dir, func(name string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || e.Name() == "status.json" || e.Name() == "lock" {
			return nil
		}
		text, err := os.ReadFile(name)
		fmt.Fprintf(&out, "%s %x\n", name, sha256.Sum256(text))
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// kept is all that the store says of readings and rounds, as text.
func kept(t *testing.T, dir string) []byte {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "yare.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query("SELECT host || ' ' || first || ' ' || hex(parts) FROM readings WHERE host = 'lapwing' " +
		"UNION SELECT id FROM rounds UNION SELECT name || n || text FROM baselines UNION SELECT name " +
		"FROM filters ORDER BY 1")
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
	t.Parallel()
	dir := demoState(t, 60)
	file := filepath.Join(t.TempDir(), "good.yaml")
	if r := run(t, "baseline", "start", "--as", "lapwing", "-o", file, "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	if r := run(t, "baseline", "check", file); r.code != 0 || !strings.Contains(r.out, "like-lapwing, clauses ") {
		t.Errorf("exit %d: %s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "lapwing", "--baseline", file, "--state", dir); r.code != 0 {
		t.Errorf("the model is not in line: exit %d\n%s%s", r.code, r.out, r.err)
	}
	if r := run(t, "check", "heron", "--baseline", file, "--state", dir); r.code != 3 ||
		!strings.Contains(r.out, "fw:corran-bmc") {
		t.Errorf("heron: exit %d\n%s", r.code, r.out)
	}
}

func TestStateOfANewerVersionIsLeftAlone(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 60)
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
		if r.code != 1 || !strings.Contains(r.err, "yare.db is damaged") || !strings.HasPrefix(string(b), text) {
			t.Errorf("exit %d: %s; the file now begins %.20q", r.code, r.err, b)
		}
	}
}

func TestEveryCommandHasHelpAndAnExample(t *testing.T) {
	t.Parallel()
	for _, c := range []string{"", "demo", "sim", "sim fault", "sim stop", "read", "check", "explain",
		"version", "version compare",
		"baseline check", "baseline start", "baseline schema", "baseline", "round", "report", "plan",
		"round start", "round resume",
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
