package sim

import (
	"encoding/json"
	"errors"
	"net/http"

	"yareharbour/connector"
	"yareharbour/core/estate"
)

// Call is a request to the host interface, and Reply its answer: one form for all, since both ends are ours. The path names the call.
type Call struct {
	Host   string         `json:"host,omitempty"`
	Guest  string         `json:"guest,omitempty"`
	To     string         `json:"to,omitempty"`
	File   string         `json:"file,omitempty"`
	Round  string         `json:"round,omitempty"`
	Reason string         `json:"reason,omitempty"`
	ID     string         `json:"id,omitempty"`
	Mark   estate.Mark    `json:"mark,omitzero"`
	Item   connector.Item `json:"item,omitzero"`
	Fault  Fault          `json:"fault,omitzero"`
	Speed  float64        `json:"speed,omitempty"`
	Body   []byte         `json:"body,omitempty"`
}

// Reply answers a Call. Error is empty where it was done; Silent tells a host that does not answer from one that refuses.
type Reply struct {
	Error   string           `json:"error,omitempty"`
	Silent  bool             `json:"silent,omitempty"`
	NoTask  bool             `json:"no_task,omitempty"`
	Task    string           `json:"task,omitempty"`
	SHA256  string           `json:"sha256,omitempty"`
	Reading *estate.Reading  `json:"reading,omitempty"`
	Tasks   []connector.Task `json:"tasks,omitempty"`
	Estate  *estate.Estate   `json:"estate,omitempty"`
	Now     string           `json:"now,omitempty"` // RFC 3339 with nanoseconds
	Speed   float64          `json:"speed,omitempty"`
	World   *World           `json:"world,omitempty"`
}

// hostInterface serves the hosts' side of a simulated estate: one POST a call, with the secret as bearer token.
func hostInterface(s *Server) http.Handler {
	calls := map[string]func(*World, Call, *Reply) error{
		"read":    func(w *World, c Call, r *Reply) (err error) { r.Reading, err = w.Read(c.Host); return },
		"stage":   func(w *World, c Call, r *Reply) (err error) { r.SHA256, err = w.Stage(c.Host, c.File, c.Body); return },
		"staged":  func(w *World, c Call, r *Reply) (err error) { r.SHA256, err = w.Staged(c.Host, c.File); return },
		"move":    func(w *World, c Call, r *Reply) (err error) { r.Task, err = w.Move(c.Host, c.Guest, c.To); return },
		"close":   func(w *World, c Call, _ *Reply) error { return w.Close(c.Host, c.Mark) },
		"open":    func(w *World, c Call, _ *Reply) error { return w.Open(c.Host, c.Round) },
		"change":  func(w *World, c Call, r *Reply) (err error) { r.Task, err = w.Change(c.Host, c.Item); return },
		"restart": restartCall,
		"task":    taskCall,
		"running": runningCall,
		"fault":   func(w *World, c Call, _ *Reply) error { return w.Order(c.Fault) },
		"estate":  func(w *World, _ Call, r *Reply) error { r.Estate = &w.Estate; return nil },
		"world":   func(w *World, _ Call, r *Reply) error { r.World = w; return nil },
		"stop":    func(*World, Call, *Reply) error { s.end(); return nil },
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
		if err == nil {
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
			reply = Reply{Error: err.Error(), Silent: errors.Is(err, connector.ErrUnreachable), NoTask: errors.Is(err, connector.ErrNoTask)}
		}
		reply.Now, reply.Speed = s.world.Now.Format("2006-01-02T15:04:05.999999999Z07:00"), s.speed
		b, err := json.Marshal(reply) // while the world is held: the reply may point into it
		s.unlock()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(b)
	})
}

func restartCall(w *World, c Call, r *Reply) (err error) {
	if _, err = w.up(c.Host); err == nil {
		r.Task, err = w.Reboot(c.Host, c.Reason)
	}
	return err
}

func taskCall(w *World, c Call, r *Reply) error {
	t, err := w.Task(c.ID)
	r.Tasks = []connector.Task{t.Task}
	return err
}

func runningCall(w *World, c Call, r *Reply) error {
	for _, t := range w.Running(c.Host, false) {
		r.Tasks = append(r.Tasks, t.Task)
	}
	return nil
}
