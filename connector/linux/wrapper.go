package linux

import (
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"strings"
)

// Wrapper is the program through which orders are given to a host. It is a POSIX shell script that says of itself what
// it does.
//
//go:embed wrapper.sh
var Wrapper string

// Hook is the script that libvirt asks before a guest starts on a host or arrives there.
//
//go:embed hook.sh
var Hook string

// Hop is the program by which a host's libvirt reaches its peers'.
//
//go:embed hop.sh
var Hop string

// Where they are on a host. All belong to root. Home may be looked into by everybody, as the probe and the mark of a
// closed host must be; what is private lies in a directory in it that only root may enter.
const (
	Home        = "/var/lib/yare"
	ProbePath   = Home + "/probe"
	WrapperPath = Home + "/wrapper"
	HopPath     = Home + "/hop"
	HookPath    = "/etc/libvirt/hooks/qemu.d/yare"
)

// ProgramPaths are those that a login may be let run as root, in the order in which sha256sum is asked of them.
var ProgramPaths = []string{ProbePath, WrapperPath}

// ProbeSum and WrapperSum are the SHA-256 of what belongs there, in hex. What has another one is of another
// version, or was tampered with, and is not run.
func ProbeSum() string { return Sum(Probe) }

// WrapperSum is the wrapper's.
func WrapperSum() string { return Sum(Wrapper) }

// Sum is a text's SHA-256, in hex.
func Sum(text string) string {
	s := sha256.Sum256([]byte(text))
	return hex.EncodeToString(s[:])
}

// programSums is what sha256sum says of the programs where they are as they should be.
func programSums() string {
	return ProbeSum() + "  " + ProbePath + "\n" + WrapperSum() + "  " + WrapperPath
}

// fields reads lines of a word and what it says. Where a word comes twice, the first counts.
func fields(text string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(text) {
		word, says, _ := strings.Cut(strings.TrimSpace(line), " ")
		if _, twice := out[word]; !twice {
			out[word] = says
		}
	}
	return out
}
