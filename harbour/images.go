package harbour

import (
	"log/slog"
	"os"
	"sync"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/images"
	"yareharbour/plain"
)

// unserved is why images can't be served to BMCs from here, as far as that is known before one is; "" where nothing speaks
// against it.
func (h *house) unserved() string {
	if h.file.Images == (images.Settings{}) {
		return "the estate file does not say where"
	}
	return ""
}

// serving serves the images of a round, from when the first is wanted.
type serving struct {
	h      *house
	round  string
	mu     sync.Mutex
	server *images.Server
}

// urls are the addresses at which the BMC of a visit's host gets its images: their own, or here. unserved is why they are
// not served here.
func (s *serving) urls(v *course.Visit) (out map[string]string, unserved string) {
	out = map[string]string{}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range v.Changes {
		if c.Kind() == act.Boot && c.At != "" {
			out[c.File] = c.At
		}
	}
	if !v.Serves() {
		return out, ""
	}
	if unserved = s.h.unserved(); unserved == "" && s.server == nil {
		server, err := images.Serve(s.h.keptDir(), s.h.file.Images, s.h.openPayload)
		if err != nil {
			return out, err.Error()
		}
		s.server = server
	}
	for _, c := range v.Changes {
		if c.Kind() == act.Boot && c.Supplied() && s.server != nil {
			out[c.File] = s.server.URL(s.round, v.Host, c.File, c.SHA256)
		}
	}
	return out, unserved
}

// reported is what the image that a host runs said last.
func (s *serving) reported(a act.Act) (percent int, says string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.server == nil {
		return 0, ""
	}
	r, _ := s.server.Report(s.round, a.Visit())
	return r.Percent, plain.Line(r.Says)
}

func (s *serving) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.server != nil {
		if err := s.server.Close(); err != nil {
			slog.Debug("what serves images did not end as it should", "error", err)
		}
	}
}

// openPayload opens a payload that was verified.
func (h *house) openPayload(file, sum string) (*os.File, error) {
	name, err := h.payloads.find(file, sum)
	if err != nil {
		return nil, err
	}
	return os.Open(name)
}
