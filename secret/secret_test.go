package secret

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/zalando/go-keyring"
)

// sealed writes a file that is encrypted for a new identity, which the environment names from then on.
func sealed(t *testing.T, text string, armored bool) string {
	t.Helper()
	dir := t.TempDir()
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	own := filepath.Join(dir, "id.txt")
	if err := os.WriteFile(own, []byte(id.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv(identityVariable, own)
	f, err := os.Create(filepath.Join(dir, "bmcs.age"))
	if err != nil {
		t.Fatal(err)
	}
	var to io.WriteCloser = f
	if armored {
		to = armor.NewWriter(f)
	}
	w, err := age.Encrypt(to, id.Recipient())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(w, text); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := to.Close(); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestSecretsComeFromWhereTheyAreNamed(t *testing.T) {
	keyring.MockInit()
	if err := keyring.Set("yare", "heron", "from the ring"); err != nil {
		t.Fatal(err)
	}
	t.Setenv("BMC_HERON", "from the environment")
	for _, armored := range []bool{false, true} {
		dir := sealed(t, "the first line\nheron: from the file\nherons: another\nstint=with=signs\n", armored)
		for place, want := range map[Place]string{
			"env:BMC_HERON":      "from the environment",
			"keyring:yare/heron": "from the ring",
			"age:bmcs.age":       "the first line",
			"age:bmcs.age#heron": "from the file",
			"age:bmcs.age#stint": "with=signs",
		} {
			if got, err := place.Get(t.Context(), dir); got != want || err != nil {
				t.Errorf("%s: %q %v", place, got, err)
			}
		}
	}
}

func TestASecretThatIsNotThereIsToldWithWhatToDo(t *testing.T) {
	keyring.MockInit()
	dir := sealed(t, "heron: x\n", false)
	for place, want := range map[Place]string{
		"env:NOT_SET_AT_ALL":  "in the environment as NOT_SET_AT_ALL",
		"keyring:yare/nobody": "holds none for the service yare and the user nobody",
		"age:gone.age":        "no such file",
		"age:bmcs.age#stint":  "no line for stint",
		"age:id.txt":          "id.txt",
		"plain words":         "a password is named, not written here",
	} {
		if got, err := place.Get(t.Context(), dir); err == nil || got != "" || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %q %v, want %q", place, got, err, want)
		}
	}
	t.Setenv(identityVariable, filepath.Join(dir, "nowhere"))
	if _, err := Place("age:bmcs.age").Get(t.Context(), dir); err == nil ||
		!strings.Contains(err.Error(), identityVariable) {
		t.Error(err)
	}
	for _, p := range []Place{"", "env:", "keyring:yare", "age:", "age:#x", "hunter2", "file:x"} {
		if p.Check() == "" {
			t.Errorf("%q is taken for a place", p)
		}
	}
}

// A secret that was in the environment is there for this program and its own processes, and for no other child.
func TestChildrenDoNotInheritSecrets(t *testing.T) {
	t.Setenv("YARE_TEST_BMC", "tide9")
	p := Place("env:YARE_TEST_BMC")
	p.Take()
	p.Take()
	out, err := exec.CommandContext(t.Context(), "env").Output()
	if err != nil || strings.Contains(string(out), "tide9") {
		t.Errorf("%v: a child sees it", err)
	}
	if s, err := p.Get(t.Context(), ""); s != "tide9" || err != nil {
		t.Errorf("%q %v", s, err)
	}
	own := exec.CommandContext(t.Context(), "env")
	own.Env = Environ()
	if out, err := own.Output(); err != nil || !strings.Contains(string(out), "YARE_TEST_BMC=tide9\n") {
		t.Errorf("%v: its own process does not see it", err)
	}
	t.Setenv("YARE_TEST_BMC", "tide10") // it was changed since
	if s, err := p.Get(t.Context(), ""); s != "tide10" || err != nil {
		t.Errorf("%q %v", s, err)
	}
}
