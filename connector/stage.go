package connector

// Stage is one step on the way to a host or its BMC, as a test of the connection finds it.
type Stage struct {
	Way string `json:"way"` // "SSH", "SSH by way of JUMP", "libvirt", "BMC"
	// "configuration", "name", "port", "host key", "TLS", "secret", "login", "permission", "proxy", "answer"
	Name  string `json:"stage"`
	OK    bool   `json:"ok"`
	Found string `json:"found"` // what holds, or what fails
	Do    string `json:"do,omitempty"`
}
