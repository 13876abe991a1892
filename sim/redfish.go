package sim

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// bmc serves the Redfish interface of one host (DMTF DSP0266, schemas of DSP2046), as far as power, inventory, health
// and firmware updates go.
type bmc struct {
	sim      *Server
	host     string
	mux      *http.ServeMux
	sessions []session
	serial   int
}

// session is a login that has not ended.
type session struct {
	token, id string
	used      time.Time // of ours, not the estate's
}

// A BMC has few sessions to give, and ends those that nobody uses.
const (
	maxSessions    = 8
	sessionTimeout = 30 * time.Minute
)

// fault is an error with its code and its id in the standard's own registry (DSP2065).
type fault struct {
	error
	id    string
	after time.Duration // when to come again
}

type doc = map[string]any

const root = "/redfish/v1"

func link(path string) doc { return doc{"@odata.id": root + path} }

func resource(path, kind, id, name string, more doc) doc {
	d := doc{"@odata.id": root + path, "@odata.type": kind, "Id": id, "Name": name}
	maps.Copy(d, more)
	return d
}

func collection(path, kind, name string, members []doc) doc {
	return doc{"@odata.id": root + path, "@odata.type": "#" + kind + "." + kind, "Name": name, "Members": members,
		"Members@odata.count": len(members)}
}

func (b *bmc) handler() http.Handler {
	mux := http.NewServeMux()
	b.mux = mux
	open := func(pattern string, h func(*Host, *http.Request) (int, any)) {
		mux.HandleFunc(pattern, b.serve(h, false))
	}
	auth := func(pattern string, h func(*Host, *http.Request) (int, any)) {
		mux.HandleFunc(pattern, b.serve(h, true))
	}
	open("GET /redfish", func(*Host, *http.Request) (int, any) { return 200, doc{"v1": root + "/"} })
	open("GET /redfish/v1", b.serviceRoot)
	open("GET /redfish/v1/{$}", b.serviceRoot)
	mux.HandleFunc("POST /redfish/v1/SessionService/Sessions", b.login)
	auth("GET /redfish/v1/SessionService", b.sessionService)
	auth("GET /redfish/v1/SessionService/Sessions", b.sessionList)
	auth("DELETE /redfish/v1/SessionService/Sessions/{id}", b.logout)
	auth("GET /redfish/v1/Systems", b.one("/Systems", "ComputerSystemCollection", "Systems", "/Systems/1"))
	auth("GET /redfish/v1/Systems/1", b.system)
	auth("POST /redfish/v1/Systems/1/Actions/ComputerSystem.Reset", b.reset)
	auth("PATCH /redfish/v1/Systems/1", b.setBoot)
	auth("GET /redfish/v1/Managers/bmc/VirtualMedia", b.one(mediaAt, "VirtualMediaCollection", "Virtual media", mediaAt+"/1"))
	auth("GET /redfish/v1/Managers/bmc/VirtualMedia/1", b.virtualMedia)
	auth("POST /redfish/v1/Managers/bmc/VirtualMedia/1/Actions/VirtualMedia.InsertMedia", b.insertMedia)
	auth("POST /redfish/v1/Managers/bmc/VirtualMedia/1/Actions/VirtualMedia.EjectMedia", b.ejectMedia)
	auth("GET /redfish/v1/Managers", b.one("/Managers", "ManagerCollection", "Managers", "/Managers/bmc"))
	auth("GET /redfish/v1/Systems/1/Bios", b.bios)
	auth("GET /redfish/v1/Managers/bmc", b.manager)
	auth("GET /redfish/v1/Managers/bmc/LogServices", b.one("/Managers/bmc/LogServices", "LogServiceCollection", "Logs",
		"/Managers/bmc/LogServices/1"))
	auth("GET /redfish/v1/Managers/bmc/LogServices/1", b.logService)
	auth("GET /redfish/v1/Managers/bmc/LogServices/1/Entries", b.logEntries)
	auth("POST /redfish/v1/Managers/bmc/Actions/Manager.Reset", b.resetManager)
	auth("GET /redfish/v1/Chassis", b.one("/Chassis", "ChassisCollection", "Chassis", "/Chassis/1"))
	auth("GET /redfish/v1/Chassis/1", b.chassis)
	auth("GET /redfish/v1/Chassis/1/Power", b.power)
	auth("GET /redfish/v1/Chassis/1/NetworkAdapters/{id}", b.device("#NetworkAdapter.v1_11_0.NetworkAdapter"))
	auth("GET /redfish/v1/Chassis/1/Drives/{id}", b.device("#Drive.v1_20_0.Drive"))
	auth("GET /redfish/v1/Systems/1/Storage/{id}", b.device("#Storage.v1_17_0.Storage"))
	auth("GET /redfish/v1/UpdateService", b.updateService)
	auth("GET /redfish/v1/UpdateService/FirmwareInventory", b.inventory)
	auth("GET /redfish/v1/UpdateService/FirmwareInventory/{id}", b.inventoryItem)
	auth("POST /redfish/v1/UpdateService/Actions/UpdateService.SimpleUpdate", b.simpleUpdate)
	auth("POST /redfish/v1/UpdateService/push", b.push)
	auth("GET /redfish/v1/TaskService", b.taskService)
	auth("GET /redfish/v1/TaskService/Tasks", b.taskList)
	auth("GET /redfish/v1/TaskService/Tasks/{id}", b.task)
	auth("DELETE /redfish/v1/TaskService/Tasks/{id}", b.clearTask)
	auth("GET /redfish/v1/TaskService/TaskMonitors/{id}", b.monitor)
	auth("/", b.elsewhere)
	return mux
}

// methods are those that some resource here knows.
var methods = []string{http.MethodGet, http.MethodPost, http.MethodPatch, http.MethodDelete}

// elsewhere answers for what is not there, or not to be done so.
func (b *bmc) elsewhere(_ *Host, r *http.Request) (int, any) {
	if allowed := b.allowed(r); len(allowed) > 0 {
		return 405, fault{error: fmt.Errorf("%s is not allowed here, %s is", r.Method, strings.Join(allowed, ", ")),
			id: "OperationNotAllowed"}
	}
	return 404, fault{error: errors.New("there is no such resource"), id: "ResourceMissingAtURI"}
}

// allowed are the methods that the resource of a request knows.
func (b *bmc) allowed(r *http.Request) (out []string) {
	for _, m := range methods {
		probe := r.Clone(r.Context())
		probe.Method = m
		if _, pattern := b.mux.Handler(probe); pattern != "/" {
			if out = append(out, m); m == http.MethodGet {
				out = append(out, http.MethodHead)
			}
		}
	}
	return out
}

// answer is what a resource says, or fetches first: what takes long is done outside the lock.
type answer func(*Host) (int, any)

// serve wraps a resource: time passes, a silent BMC drops the connection, a stranger is turned away.
func (b *bmc) serve(h func(*Host, *http.Request) (int, any), login bool) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<20))
		if err != nil {
			b.reply(w, r, 413, fault{error: err, id: "PayloadTooLarge"})
			return
		}
		r.Body = io.NopCloser(strings.NewReader(string(body)))
		b.sim.lag(bmcLatency)
		code, v := b.ask(w, r, login, func(host *Host) (int, any) { return h(host, r) })
		if fetch, ok := v.(func() answer); ok { // the lock is free meanwhile
			code, v = b.ask(w, r, login, fetch())
		}
		if t, ok := v.(doc); ok && code == 202 {
			w.Header().Set("Location", root+"/TaskService/TaskMonitors/"+fmt.Sprint(t["Id"]))
			w.Header().Set("Retry-After", "1")
		}
		b.reply(w, r, code, v)
	}
}

// ask has the host say something while nobody else does.
func (b *bmc) ask(w http.ResponseWriter, r *http.Request, login bool, h answer) (int, any) {
	b.sim.lock()
	defer b.sim.unlock()
	host, err := b.sim.world.Controller(b.host)
	if err != nil {
		panic(http.ErrAbortHandler) // as a BMC that restarts: the connection just ends
	}
	if login && !b.known(r) {
		w.Header().Set("WWW-Authenticate", `Basic realm="BMC"`)
		return 401, fault{error: errors.New("log in first"), id: "NoValidSession"}
	}
	return h(host)
}

// reply writes what DSP0266 wants of every answer: versions, allowed methods, an entity tag by which a client may ask
// whether anything changed, errors in the standard's own form.
func (b *bmc) reply(w http.ResponseWriter, r *http.Request, code int, v any) {
	w.Header().Set("OData-Version", "4.0")
	w.Header().Set("Cache-Control", "no-cache")
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	w.Header().Set("Allow", strings.Join(b.allowed(r), ", "))
	if err, ok := v.(error); ok {
		f, ok := v.(fault)
		if !ok {
			f = fault{error: err, id: "GeneralError"}
		}
		if f.after > 0 {
			w.Header().Set("Retry-After", fmt.Sprint(int(f.after.Seconds())))
		}
		v = doc{"error": doc{"code": "Base.1.18." + f.id, "message": err.Error(),
			"@Message.ExtendedInfo": []doc{{"@odata.type": "#Message.v1_2_1.Message", "MessageId": "Base.1.18." + f.id,
				"Message": err.Error(), "MessageSeverity": "Critical", "MessageArgs": []string{}}}}}
	}
	var body []byte
	if v != nil {
		body, _ = json.Marshal(v) // our own values, which have nothing that JSON lacks
	}
	if r.Method == http.MethodGet && code == 200 {
		tag := tagOf(body)
		if w.Header().Set("ETag", tag); r.Header.Get("If-None-Match") == tag {
			w.WriteHeader(http.StatusNotModified)
			return
		}
	}
	w.WriteHeader(code)
	_, _ = w.Write(body)
}

func tagOf(body []byte) string {
	return fmt.Sprintf("W/%q", fmt.Sprintf("%x", sha256.Sum256(body))[:16])
}

// etag is the tag of a resource as it is now.
func etag(v any) string {
	body, _ := json.Marshal(v) // our own values, which have nothing that JSON lacks
	return tagOf(body)
}

func (b *bmc) known(r *http.Request) bool {
	b.expire()
	for i := range b.sessions {
		if token := r.Header.Get("X-Auth-Token"); token != "" && b.sessions[i].token == token {
			b.sessions[i].used = time.Now()
			return true
		}
	}
	user, password, ok := r.BasicAuth()
	return ok && b.admits(user, password)
}

func (b *bmc) admits(user, password string) bool {
	return user == User && subtle.ConstantTimeCompare([]byte(password), []byte(b.sim.secret)) == 1
}

// expire ends the sessions that nobody used for long.
func (b *bmc) expire() {
	b.sessions = slices.DeleteFunc(b.sessions, func(s session) bool { return time.Since(s.used) > sessionTimeout })
}

func (b *bmc) login(w http.ResponseWriter, r *http.Request) {
	var who struct{ UserName, Password string }
	if err := json.NewDecoder(io.LimitReader(r.Body, 4096)).Decode(&who); err != nil {
		b.reply(w, r, 400, fault{error: err, id: "MalformedJSON"})
		return
	}
	var made session
	code, v := b.ask(w, r, false, func(*Host) (int, any) {
		b.expire()
		switch {
		case !b.admits(who.UserName, who.Password):
			return 401, fault{error: errors.New("the name or the password is wrong"), id: "InsufficientPrivilege"}
		case len(b.sessions) >= maxSessions:
			return 503, fault{error: fmt.Errorf("all %d sessions are in use", maxSessions), id: "SessionLimitExceeded",
				after: time.Minute}
		}
		b.serial++
		made = session{rand.Text(), fmt.Sprint(b.serial), time.Now()}
		b.sessions = append(b.sessions, made)
		return 201, resource("/SessionService/Sessions/"+made.id, "#Session.v1_7_0.Session", made.id, "Session",
			doc{"UserName": who.UserName})
	})
	if code == 201 {
		w.Header().Set("X-Auth-Token", made.token)
		w.Header().Set("Location", root+"/SessionService/Sessions/"+made.id)
	}
	b.reply(w, r, code, v)
}

func (b *bmc) logout(_ *Host, r *http.Request) (int, any) {
	n := len(b.sessions)
	b.sessions = slices.DeleteFunc(b.sessions, func(s session) bool { return s.id == r.PathValue("id") })
	if len(b.sessions) < n {
		return 204, nil
	}
	return 404, fault{error: errors.New("there is no such session"), id: "ResourceMissingAtURI"}
}

func (b *bmc) sessionService(*Host, *http.Request) (int, any) {
	return 200, resource("/SessionService", "#SessionService.v1_1_9.SessionService", "SessionService", "Sessions",
		doc{"ServiceEnabled": true, "SessionTimeout": int(sessionTimeout.Seconds()),
			"Sessions": link("/SessionService/Sessions")})
}

func (b *bmc) sessionList(*Host, *http.Request) (int, any) {
	members := []doc{}
	for _, s := range b.sessions {
		members = append(members, link("/SessionService/Sessions/"+s.id))
	}
	return 200, collection("/SessionService/Sessions", "SessionCollection", "Sessions", members)
}

func (b *bmc) one(path, kind, name, member string) func(*Host, *http.Request) (int, any) {
	return func(*Host, *http.Request) (int, any) { return 200, collection(path, kind, name, []doc{link(member)}) }
}

func (b *bmc) serviceRoot(h *Host, _ *http.Request) (int, any) {
	return 200, resource("/", "#ServiceRoot.v1_16_1.ServiceRoot", "RootService", "BMC of "+h.Name, doc{
		"RedfishVersion": "1.20.0", "UUID": bootID(h.Name, 0), "Vendor": h.Reading.Hardware.Maker,
		"Product": h.Reading.Hardware.Model + " controller",
		"Systems": link("/Systems"), "Chassis": link("/Chassis"), "Managers": link("/Managers"),
		"UpdateService": link("/UpdateService"), "Tasks": link("/TaskService"),
		"SessionService": link("/SessionService"),
		"Links":          doc{"Sessions": link("/SessionService/Sessions")},
	})
}

// powerOf is the host's power, as its BMC says it.
func powerOf(h *Host) string {
	if h.Reading.BMC.Power == "Off" {
		return "Off"
	}
	return "On"
}

func (b *bmc) system(h *Host, _ *http.Request) (int, any) {
	hw := h.Reading.Hardware
	return 200, resource("/Systems/1", "#ComputerSystem.v1_22_0.ComputerSystem", "1", h.Name, doc{
		"SystemType": "Physical", "Manufacturer": hw.Maker, "Model": hw.Model, "SerialNumber": hw.Serial,
		"HostName": h.Name,
		"UUID":     bootID(h.Name, 0), "PowerState": powerOf(h),
		"Status":           doc{"State": "Enabled", "Health": b.health(h)},
		"Bios":             link("/Systems/1/Bios"),
		"BiosVersion":      versionOf(h, "bios"),
		"MemorySummary":    doc{"TotalSystemMemoryGiB": h.Reading.Capacity.MemoryMiB / 1024},
		"ProcessorSummary": doc{"Count": 2, "CoreCount": h.Reading.Capacity.CPU / 1000},
		"Links":            doc{"Chassis": []doc{link("/Chassis/1")}, "ManagedBy": []doc{link("/Managers/bmc")}},
		"Boot":             bootOf(h),
		"Actions": doc{"#ComputerSystem.Reset": doc{"target": root + "/Systems/1/Actions/ComputerSystem.Reset",
			"ResetType@Redfish.AllowableValues": resetTypes}},
	})
}

func versionOf(h *Host, part string) string {
	for _, c := range h.Reading.Components {
		if c.Key.Layer() == estate.Firmware && strings.Contains(c.Key.Name(), part) {
			return c.Version
		}
	}
	return ""
}

func (b *bmc) health(h *Host) string {
	for _, i := range h.Reading.Health {
		if !i.OK {
			return "Warning"
		}
	}
	return "OK"
}

var resetTypes = []string{"On", "ForceOff", "GracefulShutdown", "GracefulRestart", "ForceRestart", "PowerCycle"}

func (b *bmc) reset(h *Host, r *http.Request) (int, any) {
	var body struct{ ResetType string }
	if err := json.NewDecoder(r.Body).Decode(&body); err != nil {
		return 400, err
	}
	w := b.sim.world
	switch body.ResetType {
	case "On":
		if powerOf(h) == "On" {
			return 204, nil
		}
		h.Reading.BMC.Power = "On"
		if b.sim.power != nil {
			return b.switched(h, true)
		}
		return b.restarted(w.Reboot(h.Name, "powered on through the BMC"))
	case "ForceOff", "GracefulShutdown":
		h.Reading.BMC.Power, h.Up = "Off", false
		if b.sim.power != nil {
			return b.switched(h, false)
		}
		w.act("power off %s", h.Name)
		return 204, nil
	case "GracefulRestart", "ForceRestart", "PowerCycle":
		h.Reading.BMC.Power = "On"
		if b.sim.power != nil {
			return b.switched(h, false, true)
		}
		return b.restarted(w.Reboot(h.Name, body.ResetType+" through the BMC"))
	}
	return 400, fault{error: fmt.Errorf("ResetType %q is not one of %v", body.ResetType, resetTypes),
		id: "ActionParameterNotSupported"}
}

// switched switches the power of a machine that is real.
func (b *bmc) switched(h *Host, on ...bool) (int, any) {
	for _, on := range on {
		if err := b.sim.power(h.Name, on); err != nil {
			return 500, err
		}
	}
	h.Up = true
	b.sim.world.act("switch the power of %s", h.Name)
	return 204, nil
}

func (b *bmc) restarted(_ string, err error) (int, any) {
	if err != nil {
		return 500, err
	}
	return 204, nil
}

func (b *bmc) manager(h *Host, _ *http.Request) (int, any) {
	return 200, resource("/Managers/bmc", "#Manager.v1_19_1.Manager", "bmc", "BMC of "+h.Name, doc{
		"ManagerType": "BMC", "FirmwareVersion": versionOf(h, "bmc"), "DateTime": b.sim.world.Now.Format(time.RFC3339),
		"LastResetTime": lastReset(h),
		"Status":        doc{"State": "Enabled", "Health": "OK"},
		"Links":         doc{"ManagerForServers": []doc{link("/Systems/1")}},
		"LogServices":   link("/Managers/bmc/LogServices"),
		"VirtualMedia":  link(mediaAt),
		"Actions": doc{"#Manager.Reset": doc{"target": root + "/Managers/bmc/Actions/Manager.Reset",
			"ResetType@Redfish.AllowableValues": []string{"GracefulRestart", "ForceRestart"}}},
	})
}

func (b *bmc) bios(h *Host, _ *http.Request) (int, any) {
	return 200, resource("/Systems/1/Bios", "#Bios.v1_2_2.Bios", "Bios", "Firmware settings of "+h.Name,
		doc{"Attributes": h.Reading.Board})
}

func (b *bmc) logService(*Host, *http.Request) (int, any) {
	return 200, resource("/Managers/bmc/LogServices/1", "#LogService.v1_7_0.LogService", "1", "Events",
		doc{"ServiceEnabled": true, "OverWritePolicy": "WrapsWhenFull",
			"Entries": link("/Managers/bmc/LogServices/1/Entries")})
}

func (b *bmc) logEntries(h *Host, _ *http.Request) (int, any) {
	members := []doc{}
	for i, l := range h.Logs[act.LogBMC] {
		at, says, _ := strings.Cut(l, " ")
		id, severity := fmt.Sprint(i+1), "OK"
		if strings.HasPrefix(says, "error") {
			severity = "Critical"
		}
		members = append(members, resource("/Managers/bmc/LogServices/1/Entries/"+id, "#LogEntry.v1_16_2.LogEntry", id,
			"Entry "+id, doc{"EntryType": "Event", "Created": at, "Severity": severity, "Message": says}))
	}
	return 200, collection("/Managers/bmc/LogServices/1/Entries", "LogEntryCollection", "Entries", members)
}

// lastReset is when the BMC last started itself; one that was never restarted has run since before the estate was made.
func lastReset(h *Host) string {
	if h.BMCReset.IsZero() {
		return "2001-01-01T00:00:00Z"
	}
	return h.BMCReset.Format(time.RFC3339)
}

func (b *bmc) resetManager(h *Host, _ *http.Request) (int, any) {
	h.BMCDown = b.sim.world.Now.Add(90 * time.Second)
	h.BMCReset = h.BMCDown
	b.sim.world.act("restart the BMC of %s", h.Name)
	return 204, nil
}

func (b *bmc) chassis(h *Host, _ *http.Request) (int, any) {
	hw := h.Reading.Hardware
	return 200, resource("/Chassis/1", "#Chassis.v1_25_1.Chassis", "1", "Chassis",
		doc{"ChassisType": "RackMount", "Manufacturer": hw.Maker,
			"Model": hw.Model, "SerialNumber": hw.Serial, "PowerState": powerOf(h),
			"Status": doc{"State": "Enabled", "Health": b.health(h)},
			"Power":  link("/Chassis/1/Power"), "Links": doc{"ComputerSystems": []doc{link("/Systems/1")}}})
}

// power tells of supplies and, where a real BMC would have further resources, of everything else that has a health.
func (b *bmc) power(h *Host, _ *http.Request) (int, any) {
	supplies := []doc{}
	for i, item := range h.Reading.Health {
		health := "OK"
		if !item.OK {
			health = "Warning"
		}
		supplies = append(supplies, doc{"@odata.id": fmt.Sprintf("%s/Chassis/1/Power#/PowerSupplies/%d", root, i),
			"MemberId": fmt.Sprint(i),
			"Name":     item.Item, "Status": doc{"State": "Enabled", "Health": health,
				"Conditions": []doc{{"Message": item.Detail, "Severity": health}}}})
	}
	return 200, resource("/Chassis/1/Power", "#Power.v1_7_3.Power", "Power", "Power", doc{"PowerSupplies": supplies,
		"PowerControl": []doc{{"MemberId": "0", "Name": "Chassis",
			"PowerConsumedWatts": 180 + h.Reading.Used().CPU/100}}})
}

func taskState(t Task) (state, status string) {
	switch t.State {
	case connector.TaskDone:
		return "Completed", "OK"
	case connector.TaskFailed:
		return "Exception", "Critical"
	}
	return "Running", "OK"
}
