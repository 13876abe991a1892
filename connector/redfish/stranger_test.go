package redfish

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/estate"
)

// stranger is a BMC of a maker that nobody knows: its paths, habits and limits are its own.
type stranger struct {
	mu       sync.Mutex
	docs     map[string]string // path → answer
	how      map[string]http.HandlerFunc
	sessions map[string]string // path → token
	most     int               // sessions; 0: it has none at all
	basic    bool
	asked    []string // paths, and with what secret
	begun    int
}

func (s *stranger) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	user, password, basic := r.BasicAuth()
	token := r.Header.Get("X-Auth-Token")
	secret := token != "" || basic
	s.asked = append(s.asked, fmt.Sprintf("%s %s %v", r.Method, r.URL.RequestURI(), secret))
	if h := s.how[r.URL.Path]; h != nil {
		h(w, r)
		return
	}
	if r.Method == http.MethodPost && r.URL.Path == "/login" {
		if s.most == 0 {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		if len(s.sessions) >= s.most {
			w.WriteHeader(http.StatusBadRequest)
			fmt.Fprint(w, `{"error":{"code":"Base.1.0.SessionLimitExceeded","message":"too many"}}`)
			return
		}
		s.begun++
		at := fmt.Sprintf("/login/%d", s.begun)
		s.sessions[at] = fmt.Sprintf("token-%d", s.begun)
		w.Header().Set("X-Auth-Token", s.sessions[at])
		w.Header().Set("Location", "https://"+r.Host+at)
		w.WriteHeader(http.StatusCreated)
		return
	}
	if r.Method == http.MethodDelete && s.sessions[r.URL.Path] == token {
		delete(s.sessions, r.URL.Path)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	known := s.basic && basic && user == "watch" && password == "word"
	for _, t := range s.sessions {
		known = known || t == token
	}
	if r.URL.Path != root && !known {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	doc, ok := s.docs[r.URL.RequestURI()]
	if !ok {
		w.WriteHeader(http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	fmt.Fprint(w, doc)
}

// newStranger is one with two chassis, paged collections and odd ids.
func newStranger() *stranger {
	link := func(at string) string { return `{"@odata.id":"` + at + `"}` }
	s := &stranger{most: 4, basic: true, sessions: map[string]string{}, how: map[string]http.HandlerFunc{},
		docs: map[string]string{
			root: `{"RedfishVersion":"1.6.0","Vendor":"Marsh","Systems":{"@odata.id":"/box/nodes"},
"Chassis":{"@odata.id":"/box/frames"},
			"Registries":{"@odata.id":"/box/words"},"UpdateService":{"@odata.id":"/box/soft"},"Tasks":{"@odata.id":"/box/work"},
"Links":{"Sessions":{"@odata.id":"/login"}}}`,
			"/box/nodes": `{"Members":[` + link("/box/nodes/left") + `]}`,
			"/box/nodes/left": `{"SystemType":"Physical","Manufacturer":"Marsh ","Model":"Reed 3",
"SerialNumber":"R3-1","PowerState":"On","HostName":"heron",
			"Memory":{"@odata.id":"/box/mem"},"Processors":{"@odata.id":"/box/cpu"},
"Bios":{"@odata.id":"/box/set"},"LogServices":{"@odata.id":"/box/logs"},
"Storage":{"@odata.id":"/box/store"},"Status":{"Health":"OK","State":"Enabled"}}`,
			"/box/mem":   `{"Members":[` + link("/box/mem/1") + `,` + link("/box/mem/2") + `]}`,
			"/box/mem/1": `{"Id":"1","Name":"Module A1","Status":{"State":"Enabled","Health":"OK"}}`,
			"/box/mem/2": `{"Id":"2","Name":"Module A2","Status":{"State":"Absent"}}`,
			"/box/cpu":   `{"Members":[` + link("/box/cpu/1") + `]}`,
			"/box/cpu/1": `{"Id":"1","Name":"1","Status":{"State":"Enabled","Health":"OK"}}`,
			"/box/store": `{"Members":[` + link("/box/store/1") + `]}`,
			"/box/store/1": `{"Name":"Shelf","StorageControllers":[{"Name":"Shelf controller",
"Status":{"Health":"OK"}}],"Drives":[` + link("/box/disk/1") + `]}`,
			"/box/disk/1": `{"Name":"Disk in bay 1","Status":{"State":"Enabled","Health":"Warning",
"Conditions":[{"Message":"few spare blocks left"}]}}`,
			"/box/frames": `{"Members":[` + link("/box/frames/a") +
				`],"Members@odata.nextLink":"/box/frames?skip=1"}`,
			"/box/frames?skip=1": `{"Members":[` + link("/box/frames/b") + `]}`,
			"/box/frames/a": `{"Name":"Node","Power":{"@odata.id":"/box/frames/a/pow"},
"Thermal":{"@odata.id":"/box/frames/a/heat"}}`,
			"/box/frames/b": `{"Name":"Shelf","PowerSubsystem":{"@odata.id":"/box/frames/b/pow"},
"ThermalSubsystem":{"@odata.id":"/box/frames/b/heat"}}`,
			"/box/frames/a/pow": `{"PowerSupplies":[{"Name":"Supply 1","Status":{"Health":"OK",
"State":"Enabled"}},{"Name":"Supply 2","Status":{"State":"Absent"}}]}`,
			"/box/frames/a/heat": `{"Fans":[{"Name":"Fan 1","Status":{"Health":"OK"}}],
"Temperatures":[{"Name":"Inlet","Status":{"Health":"OK"}}]}`,
			"/box/frames/b/pow":     `{"PowerSupplies":{"@odata.id":"/box/frames/b/pow/all"}}`,
			"/box/frames/b/pow/all": `{"Members":[` + link("/box/frames/b/pow/1") + `]}`,
			"/box/frames/b/pow/1":   `{"Name":"Supply 1","Status":{"Health":"Critical"}}`,
			"/box/frames/b/heat":    `{"Fans":{"@odata.id":"/box/frames/b/fans"}}`,
			"/box/frames/b/fans":    `{"Members":[` + link("/box/frames/b/fan/1") + `]}`,
			"/box/frames/b/fan/1":   `{"Name":"Fan 1","Status":{"Health":"OK"}}`,
			"/box/set": `{"Attributes":{"Mode":"Fast","Threads":2,"Fan":true,"Clock":"21:04","Day":"2026-11-21T20:00:00Z",
"Image":"2.5.0","Microcode":"0x21"},"AttributeRegistry":"Reed3Attributes.v1_2_0"}`,
			"/box/words": `{"Members":[` + link("/box/words/Base") + `,` + link("/box/words/Reed3Attributes") + `]}`,
			"/box/words/Reed3Attributes": `{"Location":[{"Language":"de","Uri":"/box/none"},{"Language":"en",
"Uri":"/box/attributes"}]}`,
			"/box/attributes": `{"RegistryEntries":{"Attributes":[{"AttributeName":"Mode","ReadOnly":false},
{"AttributeName":"Microcode","ReadOnly":true},{"AttributeName":"Image","ReadOnly":true}]}}`,
			"/box/logs":       `{"Members":[` + link("/box/logs/sel") + `,` + link("/box/logs/audit") + `]}`,
			"/box/logs/sel":   `{"Entries":{"@odata.id":"/box/logs/sel/e"}}`,
			"/box/logs/audit": `{"Entries":{"@odata.id":"/box/logs/audit/e"}}`,
			"/box/logs/sel/e": `{"Members":[{"Created":"2026-11-21T20:03:00Z","Severity":"Critical",
"Message":"the image was refused"}],"Members@odata.nextLink":"/box/logs/sel/e?p=2"}`,
			"/box/logs/sel/e?p=2": `{"Members":[{"Created":"2026-11-21T20:01:00+00:00","Severity":"OK","MessageId":"Marsh.1.Up"}]}`,
			"/box/logs/audit/e":   `{"Members":[` + link("/box/logs/audit/e/1") + `]}`,
			"/box/logs/audit/e/1": `{"Created":"2026-11-21T20:02:00Z","Severity":"OK","Message":"watch logged in"}`,
			"/box/work":           `{"Tasks":{"@odata.id":"/box/work/all"}}`,
			"/box/work/all":       `{"Members":[` + link("/box/work/all/7") + `,` + link("/box/work/all/8") + `]}`,
			"/box/work/all/7":     `{"Id":"7","TaskState":"Running"}`,
			"/box/work/all/8":     `{"Id":"8","TaskState":"Completed"}`,
			"/box/soft":           `{"FirmwareInventory":{"@odata.id":"/box/soft/all"}}`,
		}}
	var page []string
	for i, it := range []string{
		`{"Id":"Current-3.04.11-Reed-BMC","Name":"Reed BMC","Version":"3.04.11 "}`,
		`{"Id":"Previous-3.04.09-Reed-BMC","Name":"Reed BMC","Version":"3.04.09"}`,
		`{"Id":"installed_1.22.0_Lorne.Slot.2","Name":"Lorne L25","Version":"1.22.0",
"RelatedItem":[{"@odata.id":"/box/frames/a/NetworkAdapters/2"}]}`,
		`{"Id":"BIOS ","Name":" Reed BIOS ","Version":" 2.5.0 "}`,
		`{"Id":"PART 0x14","Name":"Tarbet S9","Version":"4.12.1"}`,
		`{"Id":"Spare","Name":"Reed BMC","Version":"3.04.08","Status":{"State":"StandbySpare"}}`,
		`{"Id":"Disk.1","Name":"Ulva W31","Version":null}`,
	} {
		at := fmt.Sprintf("/box/soft/all/%d", i)
		s.docs[at] = it
		page = append(page, link(at))
	}
	s.docs["/box/soft/all"] = `{"Members":[` + strings.Join(page[:3], ",") +
		`],"Members@odata.nextLink":"/box/soft/all?from=3"}`
	s.docs["/box/soft/all?from=3"] = `{"Members":[` + strings.Join(page[3:], ",") + `]}`
	return s
}

// serve starts the stranger and returns a client for it.
func (s *stranger) serve(t *testing.T, password string) (*Client, *httptest.Server) {
	t.Helper()
	srv := httptest.NewTLSServer(s)
	t.Cleanup(srv.Close)
	sum := sha256.Sum256(srv.Certificate().Raw)
	c := New("heron", Target{At: srv.Listener.Addr().String(), User: "watch", Fingerprint: hex.EncodeToString(sum[:]),
		Names: map[string]string{"PART 0x14": "fw:tarbet-s9 (slot 4)"}}, password)
	t.Cleanup(c.Close)
	return c, srv
}

func TestAStrangersBMCIsReadByLinks(t *testing.T) {
	s := newStranger()
	c, _ := s.serve(t, "word")
	hw, power, err := c.System(t.Context())
	if err != nil || hw != (estate.Hardware{Maker: "Marsh", Model: "Reed 3", Serial: "R3-1"}) || power != "On" {
		t.Errorf("%+v %s %v", hw, power, err)
	}
	items, _, err := c.Inventory(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, i := range items {
		got = append(got, fmt.Sprintf("%s %s %s %s", i.Title(), i.Version, i.Model, i.Class))
	}
	want := []string{"fw:reed-bmc 3.04.11 Reed BMC bmc", "fw:lorne (Slot.2) 1.22.0 Lorne L25 network",
		"fw:bios 2.5.0 Reed BIOS bios", "fw:tarbet-s9 (slot 4) 4.12.1 Tarbet S9 other", "fw:disk (1)  Ulva W31 other"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	if items[4].Unread == "" {
		t.Error("a version that is null is taken for one")
	}
	r := &estate.Reading{}
	if _, err := c.ReadSection(t.Context(), estate.BMCState, r); err != nil || len(r.BMC.Waiting) != 1 ||
		r.BMC.Waiting[0].ID != "7" {
		t.Errorf("%+v %v", r.BMC, err)
	}
	c.Close()
	if len(s.sessions) > 0 || s.begun != 1 {
		t.Errorf("%d sessions were begun and %d are left", s.begun, len(s.sessions))
	}
}

// Settings are told but for clocks, and logs are told by time, whether entries stand in their collection or are linked to.
func TestSettingsAndLogs(t *testing.T) {
	s := newStranger()
	c, _ := s.serve(t, "word")
	r := &estate.Reading{}
	if _, err := c.ReadSection(t.Context(), estate.FirmwareItems, r); err != nil ||
		!maps.Equal(r.Board, map[string]string{"Mode": "Fast", "Threads": "2", "Fan": "true"}) {
		t.Errorf("%v %v", r.Board, err)
	}
	l := c.Log(t.Context())
	want := []string{"2026-11-21T20:01:00+00:00 OK Marsh.1.Up", "2026-11-21T20:02:00Z OK watch logged in",
		"2026-11-21T20:03:00Z Critical the image was refused"}
	if !slices.Equal(l.Lines, want) || l.Err != "" {
		t.Errorf("%+v", l)
	}
	delete(s.docs, "/box/logs/audit/e")
	if l = c.Log(t.Context()); len(l.Lines) != 2 || l.Err == "" {
		t.Errorf("without one of its logs: %+v", l)
	}
	registries.Clear()
	delete(s.docs, "/box/attributes")
	if _, err := c.ReadSection(t.Context(), estate.FirmwareItems, r); err != nil || r.Board["Microcode"] != "0x21" {
		t.Errorf("without its registry all are settings: %v %v", r.Board, err)
	}
	delete(s.docs, "/box/set")
	if partial, err := c.ReadSection(t.Context(), estate.FirmwareItems, r); err != nil || partial != "" || r.Board != nil {
		t.Errorf("without settings: %v %q %v", r.Board, partial, err)
	}
}

func TestHealthIsThatOfEveryChassisAndOfAllThatIsInThem(t *testing.T) {
	s := newStranger()
	c, _ := s.serve(t, "word")
	health, partial, err := c.Health(t.Context())
	if err != nil || partial != "" {
		t.Fatal(partial, err)
	}
	var got []string
	for _, h := range health {
		got = append(got, fmt.Sprintf("%s %v %s", h.Item, h.OK, h.Detail))
	}
	want := []string{"Node: Supply 1 true ", "Node: Fan 1 true ", "Node: Inlet true ", "Shelf: Supply 1 false Critical",
		"Shelf: Fan 1 true ", "Module A1 true ", "processor 1 true ",
		"Shelf controller true ", "Disk in bay 1 false few spare blocks left"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	// One part that can't be read costs that part, and is told.
	s.how["/box/frames/b/pow"] = func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusInternalServerError)
	}
	if health, partial, err = c.Health(t.Context()); err != nil || len(health) != 8 ||
		!strings.Contains(partial, "Shelf: power and cooling could not be read") {
		t.Errorf("%d items, %q, %v", len(health), partial, err)
	}
	// Nothing that has a health is not well: it is unread.
	for at := range s.docs {
		if at != root && at != "/box/nodes" && at != "/box/nodes/left" && at != "/box/frames" {
			delete(s.docs, at)
		}
	}
	s.docs["/box/nodes/left"], s.docs["/box/frames"], s.docs["/box/frames/a"] = `{"PowerState":"On"}`,
		`{"Members":[{"@odata.id":"/box/frames/a"}]}`, `{"Name":"Node"}`
	if health, _, err = c.Health(t.Context()); err == nil || len(health) > 0 ||
		!strings.Contains(err.Error(), "has a health") {
		t.Errorf("%v %v", health, err)
	}
}

func TestSessionsAreRenewedAndWhereThereAreNoneBasicServes(t *testing.T) {
	s := newStranger()
	c, _ := s.serve(t, "word")
	if _, _, err := c.System(t.Context()); err != nil {
		t.Fatal(err)
	}
	clear(s.sessions) // all expired
	if _, _, err := c.System(t.Context()); err != nil || s.begun != 2 {
		t.Errorf("after its session ended: %v, %d sessions", err, s.begun)
	}
	for name, most := range map[string]int{"all taken": 1, "none at all": 0} {
		s := newStranger()
		if s.most = most; most > 0 {
			s.sessions["/login/other"] = "another's"
		}
		c, _ := s.serve(t, "word")
		if _, _, err := c.System(t.Context()); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if c.Close(); len(s.sessions) != most {
			t.Errorf("%s: %v", name, s.sessions)
		}
	}
	s = newStranger()
	s.how["/login"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) }
	c, _ = s.serve(t, "wrong")
	if _, _, err := c.System(t.Context()); err == nil || !strings.Contains(err.Error(), "does not let watch in") {
		t.Error(err)
	}
	tried := 0
	for _, a := range s.asked {
		if strings.HasPrefix(a, "POST /login") || strings.HasSuffix(a, "true") {
			tried++
		}
	}
	if tried != 1 {
		t.Errorf("a wrong password was tried %d times: %q", tried, s.asked)
	}
}

// A secret goes to the one BMC that it is for: redirects and links that lead elsewhere are refused.
func TestNoSecretLeavesTheBMC(t *testing.T) {
	thief := newStranger()
	away := httptest.NewTLSServer(thief)
	t.Cleanup(away.Close)
	for name, lead := range map[string]func(*stranger){
		"redirect of a resource": func(s *stranger) {
			s.how["/box/nodes"] = func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, away.URL+"/box/nodes", http.StatusTemporaryRedirect)
			}
		},
		"redirect of the login": func(s *stranger) {
			s.how["/login"] = func(w http.ResponseWriter, r *http.Request) {
				http.Redirect(w, r, away.URL+"/login", http.StatusPermanentRedirect)
			}
		},
		"next page elsewhere": func(s *stranger) {
			s.docs["/box/nodes"] = `{"Members":[],"Members@odata.nextLink":"` + away.URL + `/box/nodes"}`
		},
		"member elsewhere": func(s *stranger) {
			s.docs["/box/nodes"] = `{"Members":[{"@odata.id":"` + away.URL + `/box/nodes/left"}]}`
		},
		"next page in the clear": func(s *stranger) {
			s.how["/box/nodes"] = func(w http.ResponseWriter, r *http.Request) {
				fmt.Fprint(w, `{"Members":[],"Members@odata.nextLink":"http://`+r.Host+`/box/nodes"}`)
			}
		},
		"sessions elsewhere": func(s *stranger) {
			s.docs[root] = strings.Replace(s.docs[root], `"/login"`, `"//`+away.Listener.Addr().String()+`/login"`, 1)
		},
	} {
		s := newStranger()
		lead(s)
		c, _ := s.serve(t, "word")
		_, _, err := c.System(t.Context())
		if err == nil || !strings.Contains(err.Error(), "not followed") && !strings.Contains(err.Error(),
			"another service") {
			t.Errorf("%s: %v", name, err)
		}
		if len(thief.asked) > 0 {
			t.Errorf("%s: elsewhere was asked %q", name, thief.asked)
		}
	}
}

func TestACertificateIsVerifiedByRootsOrByPin(t *testing.T) {
	s := newStranger()
	_, srv := s.serve(t, "word")
	pool := x509.NewCertPool()
	pool.AddCert(srv.Certificate())
	at := srv.Listener.Addr().String()
	for name, c := range map[string]struct {
		to   Target
		says string
	}{
		"its root":    {Target{At: at, User: "watch", Roots: pool}, ""},
		"other roots": {Target{At: at, User: "watch", Roots: x509.NewCertPool()}, "certificate"},
		"other pin":   {Target{At: at, User: "watch", Fingerprint: strings.Repeat("ab", 32)}, "is pinned"},
	} {
		asked := len(s.asked)
		client := New("heron", c.to, "word")
		_, _, err := client.System(t.Context())
		client.Close()
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
		if c.says != "" && len(s.asked) != asked {
			t.Errorf("%s: something was sent: %q", name, s.asked[asked:])
		}
	}
}

func TestABMCThatMisbehavesCostsItsLimitAndSaysWhatItDid(t *testing.T) {
	busy := 0
	for name, c := range map[string]struct {
		how  http.HandlerFunc
		says string
	}{
		"silence": {func(_ http.ResponseWriter, r *http.Request) {
			<-r.Context().Done()
			panic(http.ErrAbortHandler) // else it would still answer, with nothing
		}, connector.ErrUnreachable.Error()},
		"nothing": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
		}, "/box/nodes is answered with nothing"},
		"blanks": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, " \n")
		}, "/box/nodes is answered with nothing"},
		"an object of no kind": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, "{}")
		}, "/box/nodes does not say what its Members are"},
		"null": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, "null")
		}, "/box/nodes does not say what its Members are"},
		"a web page": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>")
		}, `"text/html"`},
		"endless": {func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write(make([]byte, maxAnswer+2))
		}, "more than"},
		"round pages": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `{"Members":[],"Members@odata.nextLink":"/box/nodes"}`)
		}, "pages without an end"},
		"no members": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `{"Members":[]}`)
		}, "Systems are empty"},
		"busy once": {func(w http.ResponseWriter, _ *http.Request) {
			if busy++; busy == 1 {
				w.Header().Set("Retry-After", "0")
				w.WriteHeader(http.StatusServiceUnavailable)
				return
			}
			fmt.Fprint(w, `{"Members":[{"@odata.id":"/box/nodes/left"}]}`)
		}, ""},
		"its own words": {func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusForbidden)
			fmt.Fprint(w, `{"error":{"message":"general",
"@Message.ExtendedInfo":[{"MessageId":"Base.1.0.InsufficientPrivilege","Message":"the role is too small"}]}}`)
		}, "the role is too small"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStranger()
			s.how["/box/nodes"] = c.how
			client, _ := s.serve(t, "word")
			if name == "silence" {
				client.http.Timeout = 200 * time.Millisecond
			}
			_, _, err := client.System(t.Context())
			if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v, want %q", err, c.says)
			}
			if name == "silence" && !errors.Is(err, connector.ErrUnreachable) {
				t.Errorf("silence is an answer: %v", err)
			}
		})
	}
}

func TestStagesOfATest(t *testing.T) {
	s := newStranger()
	c, srv := s.serve(t, "word")
	for _, g := range c.Test(t.Context()) {
		if !g.OK {
			t.Errorf("%+v", g)
		}
	}
	last := func(c *Client) connector.Stage {
		all := c.Test(t.Context())
		c.Close()
		return all[len(all)-1]
	}
	at, pin := srv.Listener.Addr().String(), c.target.Fingerprint
	plain := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(plain.Close)
	silent := newStranger()
	silent.how["/login"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) }
	locked, _ := silent.serve(t, "wrong")
	few := newStranger()
	few.how["/box/soft"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusForbidden) }
	narrow, _ := few.serve(t, "word")
	none := newStranger()
	none.how[root] = func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "{}") }
	nothing, _ := none.serve(t, "word")
	for stage, client := range map[string]*Client{
		"name":       New("heron", Target{At: "nowhere.invalid:443", User: "watch", Fingerprint: pin}, "word"),
		"port":       New("heron", Target{At: "127.0.0.1:1", User: "watch", Fingerprint: pin}, "word"),
		"TLS":        New("heron", Target{At: plain.Listener.Addr().String(), User: "watch", Fingerprint: pin}, "word"),
		"answer":     nothing,
		"login":      locked,
		"permission": narrow,
	} {
		if g := last(client); g.OK || g.Name != stage || g.Do == "" {
			t.Errorf("want %s: %+v", stage, g)
		}
	}
	if g := last(New("heron", Target{At: at, User: "watch", Fingerprint: strings.Repeat("0", 64)},
		"word")); g.Name != "TLS" || !strings.Contains(g.Do, "fingerprint") {
		t.Errorf("%+v", g)
	}
}

// What to do belongs to the cause: a right is missing only where the BMC says so.
func TestARemedyBelongsToItsCause(t *testing.T) {
	for status, want := range map[int]string{http.StatusForbidden: "the right to read the firmware", http.StatusServiceUnavailable: "busy",
		http.StatusTooManyRequests: "busy", http.StatusNotFound: "does not offer", http.StatusInternalServerError: "see what it says"} {
		s := newStranger()
		s.how["/box/soft"] = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }
		c, _ := s.serve(t, "word")
		all := c.Test(t.Context())
		if g := all[len(all)-1]; g.OK || !strings.Contains(g.Do, want) || status != http.StatusForbidden && strings.Contains(g.Do, "right") {
			t.Errorf("%d: %+v", status, g)
		}
		c.Close()
	}
}

func TestNamesOfInventoryItems(t *testing.T) {
	for _, c := range []struct{ json, want string }{
		{`{"Id":"corran-bmc","Name":"Corran BMC","Version":"4.1"}`, "fw:corran-bmc"},
		{`{"Id":"lorne-l25.slot-2","Name":"Lorne L25 (slot 2)","Version":"7.4.2"}`, "fw:lorne-l25 (slot 2)"},
		{`{"Id":"ulva-w31.bay-1","Name":"Ulva W31","Version":"1"}`, "fw:ulva-w31 (bay-1)"},
		{`{"Id":"BIOS-2.19.1","Name":"BIOS","Version":"2.19.1"}`, "fw:bios"},
		{`{"Id":"Current-2.19.1-BIOS.Setup","Name":"BIOS","Version":"2.19.1"}`, "fw:bios (Setup)"},
		{`{"Id":"Pack12.19.1x","Name":"Pack","Version":"2.19.1"}`, "fw:pack12 (19.1x)"},
		{`{"Id":"Available-1.2.3-X","Name":"X","Version":"1.2.3"}`, ""},
		{`{"Id":"backup_image","Name":"X","Version":"1.2.3"}`, ""},
		{`{"Id":"7","Name":"Odd thing","Version":"1.2.3"}`, "fw:named (left)"},
	} {
		var s item
		if err := json.Unmarshal([]byte(c.json), &s); err != nil {
			t.Fatal(err)
		}
		got, ok := s.component(map[string]string{"Odd thing": "fw:named (left)"})
		if title := got.Title(); ok != (c.want != "") || ok && title != c.want {
			t.Errorf("%s is %q, want %q", c.json, title, c.want)
		}
	}
	twice := components([]item{{Id: "nic", Name: "NIC", Version: "1.0"}, {Id: "nic", Name: "NIC", Version: "2.0"}}, nil)
	if len(twice) != 1 || twice[0].Version != "" ||
		!strings.Contains(twice[0].Unread, "lists it twice, as 1.0 and as 2.0") {
		t.Errorf("%+v", twice)
	}
}

func FuzzInventoryItem(f *testing.F) {
	f.Add(`{"Id":"Current-3.04.11-Reed-BMC","Name":"Reed BMC","Version":"3.04.11 "}`)
	f.Add(`{"Members":[{"@odata.id":"/x"}],"Id":".","Name":"(","Version":null}`)
	f.Fuzz(func(t *testing.T, text string) {
		var s item
		if json.Unmarshal([]byte(text), &s) != nil {
			return
		}
		for _, c := range components([]item{s, s}, map[string]string{"a": "fw:b (c)"}) {
			if c.Version == "" && c.Unread == "" || c.Key.Layer() != estate.Firmware {
				t.Errorf("%+v", c)
			}
		}
	})
}

// A BMC of several systems is asked about the host's own: the only physical one, or the one that has its name. Where
// none can be told to be it, nothing is read of any.
func TestOneBMCOfSeveralSystems(t *testing.T) {
	system := func(name, kind, power string) string {
		return fmt.Sprintf(`{"SystemType":%q,"HostName":%q,"PowerState":%q,"Model":"Reed 3"}`, kind, name, power)
	}
	for name, c := range map[string]struct {
		left, right string
		power, says string
	}{
		"by its name": {system("ibis", "Physical", "Off"),
			system("Heron.merrow.invalid", "Physical", "On"), "On", ""},
		"the physical one": {system("", "Physical", "On"), system("heron", "Virtual", "Off"), "On", ""},
		"nobody has its name": {system("ibis", "Physical", "On"), system("knot", "Physical", "On"), "",
			"not one of them says that its name is heron"},
		"two have its name": {system("heron", "Physical", "On"), system("heron", "Physical", "Off"), "",
			"the BMC of 2 systems"},
	} {
		s := newStranger()
		s.docs["/box/nodes"] = `{"Members":[{"@odata.id":"/box/nodes/left"},{"@odata.id":"/box/nodes/right"}]}`
		s.docs["/box/nodes/left"], s.docs["/box/nodes/right"] = c.left, c.right
		client, _ := s.serve(t, "word")
		_, power, err := client.System(t.Context())
		if power != c.power || (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %q %v", name, power, err)
		}
	}
}

// What sums up others counts where it knows of something wrong that none of them does, and else not a second time.
func TestASumIsHeardWhereItsPartsAreWell(t *testing.T) {
	for sum, want := range map[string]string{
		`{"Health":"OK"}`:                                                 "",
		`{"Health":"Critical"}`:                                           "system Critical",
		`{"Health":"OK","HealthRollup":"Warning"}`:                        "system Warning",
		`{"HealthRollup":"Warning"}`:                                      "system Warning",
		`{"Health":"Critical","HealthRollup":"OK"}`:                       "system Critical",
		`{"Health":"Warning","Conditions":[{"Message":"a lid is open"}]}`: "system a lid is open",
	} {
		for _, partIll := range []bool{false, true} {
			s := newStranger()
			s.docs["/box/nodes/left"] = strings.Replace(s.docs["/box/nodes/left"],
				`{"Health":"OK","State":"Enabled"}`, sum, 1)
			if !partIll {
				s.docs["/box/disk/1"] = strings.Replace(s.docs["/box/disk/1"], "Warning", "OK", 1)
				s.docs["/box/frames/b/pow/1"] = strings.Replace(s.docs["/box/frames/b/pow/1"], "Critical", "OK", 1)
			}
			client, _ := s.serve(t, "word")
			health, _, err := client.Health(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			got := ""
			for _, h := range health {
				if h.Item == "system" && !h.OK {
					got = "system " + h.Detail
				}
			}
			if partIll && got != "" || !partIll && got != want {
				t.Errorf("%s, parts ill %v: %q, want %q", sum, partIll, got, want)
			}
		}
	}
}

// A collection that lists fewer members than it counts is not whole, and says so; what it lists counts.
func TestACollectionThatListsFewerThanItCounts(t *testing.T) {
	s := newStranger()
	s.docs["/box/soft/all?from=3"] = strings.TrimSuffix(s.docs["/box/soft/all?from=3"], "}") + `,"Members@odata.count":9}`
	c, _ := s.serve(t, "word")
	r := &estate.Reading{}
	partial, err := c.ReadSection(t.Context(), estate.FirmwareItems, r)
	if err != nil || !strings.Contains(partial, "counts 9 members and lists 7") || len(r.Components) != 5 {
		t.Errorf("%d items, %q, %v", len(r.Components), partial, err)
	}
	found := false
	for at, doc := range s.docs { // of memory, disks and the like too
		if strings.Contains(doc, `"Members":`) && !strings.Contains(at, "/soft/") && !found {
			s.docs[at] = strings.TrimSuffix(strings.TrimSpace(doc), "}") + `,"Members@odata.count":99}`
		}
	}
	c, _ = s.serve(t, "word")
	_, partial, err = c.Health(t.Context())
	if err == nil && !strings.Contains(partial, "counts 99 members") {
		t.Errorf("health: %q, %v", partial, err)
	}
	if _, err := c.Tasks(t.Context()); err == nil {
		t.Error("a queue of which not all is listed is taken for all")
	}
}
