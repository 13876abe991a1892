package version

import (
	"math/rand"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// Each line is a chain of versions in rising order; "=" joins versions that compare equal.
var chains = map[Scheme]string{
	Debian: `
		1.0~~ 1.0~~a 1.0~ 1.0 1.0a 1.0+ 1.0.1
		1.0~beta1~svn1245 1.0~beta1 1.0
		1.0 = 1.0-0 = 0:1.0 = 00:1.0
		9 10 1:0 2:0
		1.2-1 1.2-1+b1 1.2-1.1 1.2-2 1.2-10
		2.0-1~bpo1 2.0-1
		1a 1+ 1.
		1.002 = 1.2
		99999999999999999999998 99999999999999999999999
		30.4.140-1 30.4.147-1 30.4.147-1+brae4u1`,
	RPM: `
		1.0~rc1 1.0 1.0^git1 1.0.1
		1.0~~ 1.0~
		1.0 1.0a 1.0.1
		0:1.0 = 1.0
		9 10 1:0
		1.0-1 1.0-1.el9 1.0-2
		1.0 1.0-1
		1.0^ 1.0^20240101 1.0^20240102 1.0.1
		1.0^20240101~pre 1.0^20240101
		2_0 = 2.0
		1.002 = 1.2
		fc4 5`,
	Semantic: `
		1.0.0-alpha 1.0.0-alpha.1 1.0.0-alpha.beta 1.0.0-beta 1.0.0-beta.2 1.0.0-beta.11 1.0.0-rc.1 1.0.0
		1.0.0 = v1.0.0 = 1.0.0+build.7
		1.9.0 1.10.0 2.0.0`,
	Dotted: `
		1.2 = 1.2.0 = 1.02 = 1-2
		1.2 1.2a 1.2b 1.2.1 1.3
		2.9 2.10 10.0
		B3 B10 C01
		ver1.05 = 1.5 1.6-preview 1.6 1.6sp1
		b3 = B3
		7.4.3 7.4.4-beta2 7.4.4-rc1 7.4.4-rc2 7.4.4 = v7.4.4 = 7.4.4.0 7.4.4a 7.4.4.1
		2024-03-01 2024-11-30
		1.2a 1.2.0.a 1.2.0.1`,
}

func TestChains(t *testing.T) {
	for scheme, text := range chains {
		for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
			checkChain(t, scheme, strings.Fields(line))
		}
	}
}

func checkChain(t *testing.T, scheme Scheme, words []string) {
	t.Helper()
	rank := 0
	var versions []string
	var ranks []int
	for i, w := range words {
		if w == "=" {
			continue
		}
		if i > 0 && words[i-1] != "=" {
			rank++
		}
		versions, ranks = append(versions, w), append(ranks, rank)
	}
	for i, a := range versions {
		if err := scheme.Valid(a); err != nil {
			t.Errorf("%v.Valid(%q) = %v", scheme, a, err)
		}
		for j, b := range versions {
			if got, want := scheme.Compare(a, b), sign(ranks[i]-ranks[j]); got != want {
				t.Errorf("%v.Compare(%q, %q) = %d, want %d", scheme, a, b, got, want)
			}
		}
	}
}

func TestValidDebianRefuses(t *testing.T) {
	for _, v := range []string{"", "a1", "1:", "x:1", "1-", "1_2", "1.0-a_b", "2147483648:1", ":1", "1 2"} {
		if Debian.Valid(v) == nil {
			t.Errorf("Valid(%q) = nil", v)
		}
	}
}

func TestSchemeNames(t *testing.T) {
	for _, s := range Schemes {
		if got, err := ParseScheme(s.String()); err != nil || got != s {
			t.Errorf("ParseScheme(%q) = %v, %v", s, got, err)
		}
	}
	if _, err := ParseScheme("roman"); err == nil {
		t.Error("ParseScheme accepts a scheme that is not there")
	}
}

// randomVersion makes versions that often share a prefix, so that the interesting places are reached.
func randomVersion(r *rand.Rand) string {
	var b strings.Builder
	if r.Intn(5) == 0 {
		b.WriteString([]string{"0:", "1:", "2:", "01:"}[r.Intn(4)])
	}
	b.WriteByte(byte('0' + r.Intn(3)))
	pieces := []string{"0", "1", "2", "10", "007", ".", ".", "~", "+", "a", "b", "Z", "-", "~rc", "dfsg",
		"+deb12u", "^", "^git", "_"}
	for range r.Intn(7) {
		b.WriteString(pieces[r.Intn(len(pieces))])
	}
	if r.Intn(2) == 0 {
		b.WriteString("-1")
	}
	return strings.TrimRight(b.String(), "-")
}

// The ordering must be dpkg's own, pair by pair, over hundreds of generated pairs, others each time.
func TestAgainstDpkg(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("no dpkg on this machine to compare with")
	}
	const pairs = 800
	r := rand.New(rand.NewSource(rand.Int63()))
	var script strings.Builder
	var want []int
	for len(want) < pairs {
		a, b := randomVersion(r), randomVersion(r)
		if Debian.Valid(a) != nil || Debian.Valid(b) != nil {
			continue
		}
		want = append(want, Debian.Compare(a, b))
		op := map[int]string{-1: "lt", 0: "eq", 1: "gt"}[want[len(want)-1]]
		script.WriteString("dpkg --compare-versions '" + a + "' " + op + " '" + b + "' || echo '" + a +
			" " + op + " " + b + "'\n")
	}
	cmd := exec.Command("sh")
	cmd.Stdin = strings.NewReader(script.String())
	out, err := cmd.CombinedOutput()
	if err != nil && len(out) == 0 {
		t.Fatalf("running dpkg: %v", err)
	}
	if len(out) > 0 {
		t.Errorf("dpkg disagrees:\n%s", out)
	}
	slices.Sort(want)
	if want[0] == want[len(want)-1] {
		t.Error("the generated pairs all compare alike: they prove nothing")
	}
}

// The ordering must be rpm's own; rpm answers through its own Lua.
func TestAgainstRPM(t *testing.T) {
	rpmlua, err := exec.LookPath("rpmlua")
	if err != nil {
		t.Skip("no rpmlua on this machine to compare with (Debian's rpm has it)")
	}
	r := rand.New(rand.NewSource(8))
	var lua strings.Builder
	var pairs [][2]string
	for len(pairs) < 5000 {
		a, b := randomVersion(r), randomVersion(r)
		if RPM.Valid(a) == nil && RPM.Valid(b) == nil {
			pairs = append(pairs, [2]string{a, b})
			lua.WriteString("print(rpm.vercmp('" + a + "','" + b + "'))\n")
		}
	}
	file := t.TempDir() + "/pairs.lua"
	if err := os.WriteFile(file, []byte(lua.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command(rpmlua, file).Output()
	if err != nil {
		t.Skipf("this rpm does not answer: %v", err)
	}
	answers := strings.Fields(string(out))
	if len(answers) != len(pairs) {
		t.Fatalf("%d answers to %d questions", len(answers), len(pairs))
	}
	seen := map[string]int{}
	for i, p := range pairs {
		seen[answers[i]]++
		if got := strconv.Itoa(RPM.Compare(p[0], p[1])); got != answers[i] {
			t.Errorf("%q against %q: %s, rpm says %s", p[0], p[1], got, answers[i])
		}
	}
	if len(seen) != 3 {
		t.Errorf("the generated pairs do not compare in all three ways: %v", seen)
	}
}

// A total preorder: antisymmetric, transitive, reflexive.
func checkOrder(t *testing.T, s Scheme, a, b, c string) {
	ab, ba, bc, ac := s.Compare(a, b), s.Compare(b, a), s.Compare(b, c), s.Compare(a, c)
	if ab != -ba {
		t.Errorf("%v: %q against %q is %d one way and %d the other", s, a, b, ab, ba)
	}
	if s.Compare(a, a) != 0 {
		t.Errorf("%v: %q differs from itself", s, a)
	}
	if ab <= 0 && bc <= 0 && ac > 0 {
		t.Errorf("%v: %q <= %q <= %q but not %q <= %q", s, a, b, c, a, c)
	}
	if ab == 0 && ac != bc {
		t.Errorf("%v: %q and %q are the same but stand differently to %q", s, a, b, c)
	}
}

func TestOrderProperties(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	for range 20000 {
		a, b, c := randomVersion(r), randomVersion(r), randomVersion(r)
		for _, s := range Schemes {
			checkOrder(t, s, a, b, c)
		}
	}
}

func FuzzOrder(f *testing.F) {
	f.Add("1.0", "1.0~rc1", "1.0-1")
	f.Add("1:0", "B3", "2.04a")
	f.Add("", "~", "\xff")
	f.Add("1.0^1", "1.0", "1.0~1")
	f.Add("1.0.0-rc.1", "1.0.0+x", "v1.0.0")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		for _, s := range Schemes {
			checkOrder(t, s, a, b, c)
		}
	})
}

func BenchmarkCompareDebian(b *testing.B) {
	for b.Loop() {
		Debian.Compare("1:4.2p1-2+brae4u6", "1:4.2p1-2+brae4u7")
	}
}

// pairsOf are versions to be compared many at a time.
func pairsOf(n int, valid Scheme) [][2]string {
	r := rand.New(rand.NewSource(3))
	var out [][2]string
	for len(out) < n {
		if a, b := randomVersion(r), randomVersion(r); valid.Valid(a) == nil && valid.Valid(b) == nil {
			out = append(out, [2]string{a, b})
		}
	}
	return out
}

const manyPairs = 20000

// BenchmarkCompareRPM20000 stands beside BenchmarkRpmlua20000: the same pairs, compared by rpm itself.
func BenchmarkCompareRPM20000(b *testing.B) {
	pairs := pairsOf(manyPairs, RPM)
	for b.Loop() {
		for _, p := range pairs {
			RPM.Compare(p[0], p[1])
		}
	}
}

func BenchmarkRpmlua20000(b *testing.B) {
	rpmlua, err := exec.LookPath("rpmlua")
	if err != nil {
		b.Skip("no rpmlua here")
	}
	var lua strings.Builder
	lua.WriteString("local p = {\n")
	for _, p := range pairsOf(manyPairs, RPM) {
		lua.WriteString("{'" + p[0] + "','" + p[1] + "'},\n")
	}
	lua.WriteString("}\nfor _, x in ipairs(p) do rpm.vercmp(x[1], x[2]) end\n")
	file := b.TempDir() + "/pairs.lua"
	if err := os.WriteFile(file, []byte(lua.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if out, err := exec.Command(rpmlua, file).CombinedOutput(); err != nil {
			b.Fatalf("%v %s", err, out)
		}
	}
}

// BenchmarkCompareDebian20000 stands beside BenchmarkAptPkg20000.
func BenchmarkCompareDebian20000(b *testing.B) {
	pairs := pairsOf(manyPairs, Debian)
	for b.Loop() {
		for _, p := range pairs {
			Debian.Compare(p[0], p[1])
		}
	}
}

func BenchmarkAptPkg20000(b *testing.B) {
	const python = "/usr/bin/python3"
	if exec.Command(python, "-c", "import apt_pkg").Run() != nil {
		b.Skip("no apt_pkg here (Debian: python3-apt)")
	}
	var code strings.Builder
	code.WriteString("import apt_pkg\napt_pkg.init_system()\nfor a, b in [\n")
	for _, p := range pairsOf(manyPairs, Debian) {
		code.WriteString("(" + strconv.Quote(p[0]) + "," + strconv.Quote(p[1]) + "),\n")
	}
	code.WriteString("]: apt_pkg.version_compare(a, b)\n")
	file := b.TempDir() + "/pairs.py"
	if err := os.WriteFile(file, []byte(code.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if out, err := exec.Command(python, file).CombinedOutput(); err != nil {
			b.Fatalf("%v %s", err, out)
		}
	}
}
