package sim

import (
	"testing"
	"time"
)

// A session that nobody used for half an hour has ended, and its token opens nothing.
func TestSessionsOfABMCEnd(t *testing.T) {
	t.Parallel()
	b := &bmc{sessions: []session{{"old", "1", time.Now().Add(-sessionTimeout - time.Second)},
		{"young", "2", time.Now().Add(-sessionTimeout + time.Minute)}}}
	b.expire()
	if len(b.sessions) != 1 || b.sessions[0].token != "young" {
		t.Errorf("%+v", b.sessions)
	}
}
