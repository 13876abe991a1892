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

// Where the two are on a host. The wrapper has a part of its hash in its name, so that another version of it is another
// file.
const (
	Home     = "/var/lib/yare"
	HookPath = "/etc/libvirt/hooks/qemu.d/yare"
)

// WrapperPath is where the wrapper of this version is.
func WrapperPath() string {
	sum := sha256.Sum256([]byte(Wrapper))
	return Home + "/wrapper-" + hex.EncodeToString(sum[:])[:12]
}

// HookSum is the hook's SHA-256, in hex.
func HookSum() string {
	sum := sha256.Sum256([]byte(Hook))
	return hex.EncodeToString(sum[:])
}

// fields reads lines of a word and what it says.
func fields(text string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(text) {
		word, says, _ := strings.Cut(strings.TrimSpace(line), " ")
		out[word] = says
	}
	return out
}
