package linux

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"yareharbour/core/estate"
)

func TestTheRoot(t *testing.T) {
	for mounts, want := range map[string]string{
		"/dev/sda2 / ext4 rw 0 0":                        "ext4 false",
		"rootfs / rootfs rw 0 0\n/dev/sda2 / xfs rw 0 0": "xfs false",
		"tmpfs / tmpfs rw 0 0":                           "tmpfs true",
		"overlay / overlay rw,lowerdir=/ro,upperdir=/run/over/up,workdir=/w 0 0\n" +
			"tmpfs /run tmpfs rw 0 0": "overlay true",
		"overlay / overlay rw,lowerdir=/ro,upperdir=/data/up,workdir=/w 0 0\n" +
			"tmpfs /run tmpfs rw 0 0": "overlay false",
		"overlay / overlay ro,lowerdir=/ro 0 0": "overlay true",
		"proc /proc proc rw 0 0":                " false",
		"":                                      " false",
	} {
		if kind, gone := rootOf(mounts); fmt.Sprint(kind, " ", gone) != want {
			t.Errorf("%q: %s %v, want %s", mounts, kind, gone, want)
		}
	}
}

func TestRoom(t *testing.T) {
	got := spaces([]string{"Filesystem 1048576-blocks Used Available Capacity Mounted on",
		"/dev/sda2 60000 20000 40123 34% /", "/dev/sda1 1024 512 511 50% /boot",
		"tmpfs 8000 0 8000 0% /run", "broken line"},
		"/dev/sda2 / ext4 rw\n/dev/sda1 /boot ext4 rw\ntmpfs /run tmpfs rw")
	if want := []estate.Space{{Path: "/", FreeMiB: 39936, SizeMiB: 60000},
		{Path: "/boot", FreeMiB: 448, SizeMiB: 1024}}; !reflect.DeepEqual(got, want) {
		t.Errorf("%+v", got)
	}
}

func TestBonds(t *testing.T) {
	got := bond("bond0", `Ethernet Channel Bonding Driver: v5.10

Bonding Mode: IEEE 802.3ad Dynamic link aggregation
MII Status: up

Slave Interface: eth0
MII Status: up
Speed: 25000 Mbps

Slave Interface: eth1
MII Status: down
`)
	if want := (estate.Bond{Name: "bond0",
		Links: []estate.Link{{Name: "eth0", Up: true}, {Name: "eth1"}}}); !reflect.DeepEqual(got, want) {
		t.Errorf("%+v", got)
	}
}

func TestArrays(t *testing.T) {
	for text, want := range map[string]string{
		"Personalities : [raid1]\nmd0 : active raid1 sdb1[1] sda1[0]\n      1046528 blocks super 1.2 [2/2] [UU]\n\n" +
			"unused devices: <none>\n": "[{md0 true }]",
		"md0 : active raid1 sdb1[1] sda1[0](F)\n" +
			"      1046528 blocks super 1.2 [2/1] [U_]\n": "[{md0 false devices that are there: [U_]}]",
		"md0 : active raid1 sdb1[2] sda1[0]\n      1046528 blocks super 1.2 [2/1] [U_]\n" +
			"      [==>....]  recovery = 12.6% (1/8) finish=1.0min speed=10K/sec\n": "[{md0 false devices that are " +
			"there: [U_]; [==>....] recovery = 12.6% (1/8) finish=1.0min speed=10K/sec}]",
		"md1 : inactive sdc1[0](S)\n" +
			"      1046528 blocks\n": "[{md1 false inactive}]",
		"md0 : active raid1 sdb1[1] sda1[0]\n      8 blocks [2/2] [UU]\n      [>....]  check =  1.0% (1/8)\n" +
			"md1 : active raid1 sdd1[1] sdc1[0]\n      8 blocks [2/2] [UU]\n": "[{md0 true } {md1 true }]",
		"": "[]",
	} {
		if got := fmt.Sprint(arrays(text)); got != want {
			t.Errorf("%q\n%s, want\n%s", text, got, want)
		}
	}
}

func TestCertificates(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	until := time.Date(2027, 1, 2, 3, 4, 5, 0, time.UTC)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: until},
		&x509.Certificate{SerialNumber: big.NewInt(1)}, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	text := append(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: []byte("k")}),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})...)
	text = append(text, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: []byte("broken")})...)
	got := certificate("/x.pem", text)
	if len(got) != 2 || !got[0].Until.Equal(until) || got[0].Name != "/x.pem" || got[0].Unread != "" ||
		got[1].Unread == "" {
		t.Errorf("%+v", got)
	}
	if got := certificate("/y.pem", []byte("no PEM at all")); got != nil {
		t.Errorf("%+v", got)
	}
}

// This machine tells its own condition.
func TestTheConditionOfThisMachine(t *testing.T) {
	m, err := Here()
	if err != nil {
		t.Fatal(err)
	}
	r := m.Read(t.Context(), estate.ConditionItems)
	if s := r.Section(estate.ConditionItems); s.Err != "" || r.Condition.Root == "" || r.Condition.Ahead != 0 ||
		r.Condition.Under("/").SizeMiB == 0 {
		t.Errorf("%s: %+v", s.Err, r.Condition)
	}
}

// Disks tell how worn they are in the kernel's words, or in smartctl's. One of a kind that wears and does not tell is
// listed with why; one that spins and says nothing is not listed.
func TestHowWornDisksAre(t *testing.T) {
	files := fstest.MapFS{"sys/block/mmcblk0/device/life_time": {Data: []byte("0x02 0x0B\n")},
		"sys/block/mmcblk1/device/life_time": {Data: []byte("0x00 0x00\n")},
		"sys/block/nvme0n1/size":             {}, "sys/block/nvme1n1/size": {}, "sys/block/sda/size": {},
		"sys/block/sdb/size": {}, "sys/block/sdc/size": {}, "sys/block/sdd/size": {},
		"sys/block/sde/queue/rotational": {Data: []byte("1\n")},
		"sys/block/sdf/queue/rotational": {Data: []byte("1\n")}}
	says := map[string]string{
		"nvme0n1": `{"nvme_smart_health_information_log":{"percentage_used":104}}`,
		"nvme1n1": `{"nvme_smart_health_information_log":{"percentage_used":0}}`,
		"sda":     `{"endurance_used":{"current_percent":37},"nvme_smart_health_information_log":{}}`,
		"sdb":     `{"smartctl":{"exit_status":2}}`,
		"sdd":     `{"smartctl":{"exit_status":2,"messages":[{"string":"Permission denied"}]}}`,
		"sde":     `{"smartctl":{"exit_status":0}}`,
		"sdf":     `{"endurance_used":{"current_percent":7}}`,
	}
	m := Machine{Source: Disk{FS: files, Run: func(command ...string) ([]byte, error) {
		name, _ := strings.CutPrefix(command[4], "/dev/")
		return []byte(says[strings.TrimSuffix(name, " || :")]), nil
	}}}
	const want = "[{mmcblk0 100 } {mmcblk1 0 it does not tell} {nvme0n1 104 } {nvme1n1 0 } {sda 37 } " +
		"{sdb 0 it does not tell} {sdc 0 smartctl is not there} {sdd 0 Permission denied} {sdf 7 }]"
	if got := fmt.Sprint(m.wear()); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// Where file systems come from over the network is read of their options, and who that is of the neighbours.
func TestWhereFileSystemsComeFrom(t *testing.T) {
	got := servers("/dev/sda1 / ext4 rw 0 0\n"+
		"nas:/vm /srv/vm nfs4 rw,addr=10.0.0.1,clientaddr=10.0.0.9 0 0\n//b/c /mnt cifs rw,addr=10.0.0.2 0 0\nshort\n",
		[]string{"10.0.0.1 dev br0 lladdr 52:54:00:00:00:AA REACHABLE", "10.0.0.2 dev br0 FAILED",
			"10.0.0.3 dev br0 lladdr"})
	want := []estate.Server{{At: "/srv/vm", Address: "10.0.0.1", MAC: "52:54:00:00:00:aa"},
		{At: "/mnt", Address: "10.0.0.2"}}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%+v", got)
	}
}
