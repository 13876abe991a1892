package harbour

import (
	"os"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/plan"
	"yareharbour/images"
)

// unserved is why images can't be served to BMCs from here, as far as that is known before one is; "" where nothing speaks
// against it.
func (h *house) unserved() string {
	if h.file.Images == (images.Settings{}) {
		return "the estate file does not say where"
	}
	return ""
}

// serve begins to serve the images of a plan that has any, or says why it can't.
func (h *house) serve(p *plan.Plan) (*images.Server, string) {
	boots := false
	for i := range p.Visits {
		boots = boots || p.Visits[i].Boots()
	}
	if !boots {
		return nil, "the round was planned without any"
	}
	if why := h.unserved(); why != "" {
		return nil, why
	}
	s, err := images.Serve(h.keptDir(), h.file.Images, func(file, sum string) (*os.File, error) {
		name, err := h.payloads.find(file, sum)
		if err != nil {
			return nil, err
		}
		return os.Open(name)
	})
	if err != nil {
		return nil, err.Error()
	}
	return s, ""
}

// urls are the addresses at which the images of a visit are served.
func urls(s *images.Server, round string, v *course.Visit) map[string]string {
	out := map[string]string{}
	if s == nil {
		return out
	}
	for _, c := range v.Changes {
		if c.Kind() == act.Boot {
			out[c.File] = s.URL(round, v.Host, c.File, c.SHA256)
		}
	}
	return out
}
