package sim

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// Call is a request to the host interface, and Reply its answer: one form for all, since both ends are ours. The path
// names the call.
type Call struct {
	Host     string               `json:"host,omitempty"`
	Sections []estate.SectionName `json:"sections,omitempty"`
	Act      *act.Act             `json:"act,omitempty"`
	Fault    Fault                `json:"fault,omitzero"`
	Body     []byte               `json:"body,omitempty"` // an archive
	Speed    float64              `json:"speed,omitempty"`

	order   connector.Order // from the header
	payload []byte          // the body, where the header carries an order
}

// Reply answers a Call. Error is empty where it was done; Silent tells a host that does not answer from one that
// refuses.
type Reply struct {
	Error   string          `json:"error,omitempty"`
	Silent  bool            `json:"silent,omitempty"`
	Stale   bool            `json:"stale,omitempty"` // it has taken orders of a higher epoch
	Known   bool            `json:"known,omitempty"` // it has had this order
	Task    string          `json:"task,omitempty"`
	SHA256  string          `json:"sha256,omitempty"`
	Body    []byte          `json:"body,omitempty"`
	Trace   act.Trace       `json:"trace,omitzero"`
	Reading *estate.Reading `json:"reading,omitempty"`
	Estate  *estate.Estate  `json:"estate,omitempty"`
	Now     string          `json:"now,omitempty"` // RFC 3339 with nanoseconds
	Speed   float64         `json:"speed,omitempty"`
	World   *World          `json:"world,omitempty"`
	Logs    []act.Log       `json:"logs,omitempty"`
	Lines   []string        `json:"lines,omitempty"`
}

// hostInterface serves the hosts' side of a simulated estate: one POST a call, with the secret as bearer token.
func hostInterface(s *Server) http.Handler {
	calls := map[string]func(*World, Call, *Reply) error{
		"read": func(w *World, c Call, r *Reply) (err error) {
			r.Reading, err = w.Read(c.Host, c.Sections...)
			return
		},
		"logs":        func(w *World, c Call, r *Reply) (err error) { r.Logs, err = w.Logs(c.Host); return },
		"certificate": func(w *World, c Call, r *Reply) error { return s.inside(w, c.Host, r) },
		"differs":     func(w *World, c Call, r *Reply) (err error) { r.Lines, err = w.Differs(c.Host, c.Body); return },
		"do":          doCall,
		"trace":       func(w *World, c Call, r *Reply) (err error) { r.Trace, err = w.Trace(*c.Act); return },
		"fault":       func(w *World, c Call, _ *Reply) error { return w.Order(c.Fault) },
		"estate":      func(w *World, _ Call, r *Reply) error { r.Estate = &w.Estate; return nil },
		"world":       func(w *World, _ Call, r *Reply) error { r.World = w; return nil },
		"stop":        func(*World, Call, *Reply) error { s.end(); return nil },
		"clock": func(_ *World, c Call, _ *Reply) error {
			if c.Speed > 0 {
				s.setSpeed(c.Speed)
			}
			return nil
		},
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		call, ok := calls[r.URL.Path[1:]]
		if !ok || r.Method != http.MethodPost {
			http.NotFound(w, r)
			return
		}
		if r.Header.Get("Authorization") != "Bearer "+s.secret {
			http.Error(w, "wrong secret", http.StatusUnauthorized)
			return
		}
		body, err := readBody(w, r)
		var c Call
		switch carried := r.Header.Get(OrderHeader); {
		case err != nil:
		case carried != "":
			var text []byte
			if text, err = base64.StdEncoding.DecodeString(carried); err == nil {
				c.order, err = order(text)
			}
			c.payload, c.Host = body, c.order.Host
		default:
			err = json.Unmarshal(body, &c)
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		if c.Host != "" {
			s.lag(hostLatency)
		}
		s.lock()
		var reply Reply
		if err := call(s.world, c, &reply); err != nil {
			reply = Reply{Error: err.Error(), Silent: errors.Is(err, connector.ErrUnreachable),
				Stale: errors.Is(err, connector.ErrStale), Known: errors.Is(err, connector.ErrKnown)}
		}
		lost := c.payload != nil && s.world.strikes(c.Host, LosesAnswer)
		reply.Now, reply.Speed = s.world.Now.Format("2006-01-02T15:04:05.999999999Z07:00"), s.speed
		b, err := json.Marshal(reply) // while the world is held: the reply may point into it
		s.unlock()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		if lost {
			panic(http.ErrAbortHandler) // the connection ends without a word
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(b)
	})
}

// inside is the fingerprint of the certificate of a host's BMC, as the host itself sees it.
func (s *Server) inside(w *World, host string, r *Reply) error {
	h, err := w.up(host)
	if err != nil {
		return err
	}
	c, err := s.certificate(h.certFile())
	if err == nil {
		sum := sha256.Sum256(c.Certificate[0])
		r.SHA256 = hex.EncodeToString(sum[:])
	}
	return err
}

func doCall(w *World, c Call, r *Reply) error {
	a, err := w.Do(c.order, c.payload)
	r.Task, r.SHA256, r.Body = a.Task, a.SHA256, a.Body
	return err
}
