// Package collect reads what the Linux machine it runs on shows of itself and
// makes a report of it. It reads files alone, through an [fs.FS] of the whole
// tree, and runs nothing. What it cannot know it reports as unavailable, with
// the reason.
package collect

import (
	"cmp"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Options are what a report cannot find out by itself.
type Options struct {
	Source       string
	ID           string // of the device; "" leaves it to the serial or hardware id
	Owner        string
	Certificates fs.FS                      // a folder of certificates; nil for none
	Set          map[string]json.RawMessage // attributes given by the caller, which win
}

// Report is a report of evidence, as the service takes it.
type Report struct {
	Source     string            `json:"source"`
	ObservedAt string            `json:"observed_at"`
	Identity   map[string]string `json:"identity"`
	Evidence   map[string]any    `json:"evidence"`
}

// Unavailable is a reading of which only the reason is known why there is none.
type Unavailable struct {
	Why string `json:"unavailable"`
}

// machine is the tree that is read, and the report that is made of it.
type machine struct {
	tree fs.FS
	out  map[string]any
}

// Linux reports on the machine whose files are in tree, at now.
func Linux(tree fs.FS, o Options, now time.Time) (*Report, error) {
	m := &machine{tree, map[string]any{"platform": "linux"}}
	r := &Report{Source: cmp.Or(o.Source, "agent"), ObservedAt: now.UTC().Format(time.RFC3339),
		Identity: map[string]string{}, Evidence: m.out}
	m.hardware(r.Identity)
	m.system()
	m.volumes()
	m.boot()
	m.firewall()
	m.antimalware()
	m.network()
	m.unknowable()
	if o.ID != "" {
		r.Identity["id"] = o.ID
	}
	if o.Owner != "" {
		m.out["owner"] = o.Owner
	}
	if o.Certificates != nil {
		if err := m.certificates(o.Certificates); err != nil {
			return nil, err
		}
	}
	for name, raw := range o.Set {
		m.out[name] = raw
	}
	if len(r.Identity) == 0 {
		return nil, errors.New("nothing tells this machine from others: its serial and hardware id cannot be " +
			"read; give it an id")
	}
	return r, nil
}

// line returns the text of a small file without white space around it.
func (m *machine) line(name string) (string, error) {
	raw, err := fs.ReadFile(m.tree, name)
	return strings.TrimSpace(string(raw)), err
}

func (m *machine) exists(name string) bool {
	_, err := fs.Stat(m.tree, name)
	return err == nil
}

// no reports an attribute as unavailable.
func (m *machine) no(name, format string, args ...any) {
	m.out[name] = Unavailable{fmt.Sprintf(format, args...)}
}

// cause tells people why a file could not be read.
func cause(err error) string {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "the file is not there"
	case errors.Is(err, fs.ErrPermission):
		return "it may be read by root only"
	}
	return err.Error()
}

// chassis are the kinds of SMBIOS 3.7, 7.4.1, that have a form of their own.
var chassis = map[string]string{"3": "desktop", "4": "desktop", "5": "desktop", "6": "desktop",
	"7": "desktop", "13": "desktop", "15": "desktop", "16": "desktop", "35": "desktop", "36": "desktop",
	"8": "laptop", "9": "laptop", "10": "laptop", "14": "laptop", "31": "laptop", "32": "laptop",
	"11": "phone", "30": "tablet", "17": "server", "23": "server", "25": "server", "28": "server", "29": "server"}

// placeholders are what makers leave in a serial they did not set.
var placeholders = []string{"", "none", "default string", "to be filled by o.e.m.", "system serial number",
	"not specified", "0", "unknown"}

func (m *machine) hardware(identity map[string]string) {
	const dmi = "sys/class/dmi/id/"
	for attribute, file := range map[string]string{"vendor": "sys_vendor", "model": "product_name"} {
		if text, err := m.line(dmi + file); err == nil && text != "" {
			m.out[attribute] = text
		} else if err != nil {
			m.no(attribute, "/%s: %s", dmi+file, cause(err))
		}
	}
	if kind, err := m.line(dmi + "chassis_type"); err == nil {
		m.out["form"] = cmp.Or(chassis[kind], "other")
	} else {
		m.no("form", "/%schassis_type: %s", dmi, cause(err))
	}
	serial, err := m.line(dmi + "product_serial")
	switch {
	case err == nil && !slices.Contains(placeholders, strings.ToLower(serial)):
		identity["serial"] = serial
	case err == nil:
		m.no("serial", "the maker set none")
	default:
		m.no("serial", "/%sproduct_serial: %s", dmi, cause(err))
	}
	uuid, err := m.line(dmi + "product_uuid")
	if err != nil || slices.Contains(placeholders, strings.ToLower(uuid)) {
		uuid, err = m.line("etc/machine-id")
	}
	if err == nil && uuid != "" {
		identity["hardware_id"] = strings.ToLower(uuid)
	} else if err != nil {
		m.no("hardware_id", "/etc/machine-id: %s", cause(err))
	}
	if name, err := m.line("proc/sys/kernel/hostname"); err == nil && name != "" {
		m.out["name"] = name
	} else if name, err := m.line("etc/hostname"); err == nil && name != "" {
		m.out["name"] = name
	}
}

func (m *machine) system() {
	facts := map[string]string{}
	text, err := m.line("etc/os-release")
	if err != nil {
		text, err = m.line("usr/lib/os-release")
	}
	for _, l := range strings.Split(text, "\n") {
		if k, v, ok := strings.Cut(l, "="); ok {
			facts[strings.TrimSpace(k)] = strings.Trim(strings.TrimSpace(v), `"'`)
		}
	}
	version := facts["VERSION_ID"]
	// Debian tells its point release in a file of its own.
	if point, err := m.line("etc/debian_version"); err == nil && facts["ID"] == "debian" && point != "" &&
		point[0] >= '0' && point[0] <= '9' {
		version = point
	}
	switch {
	case version != "":
		m.out["os.version"] = version
	case err != nil:
		m.no("os.version", "/etc/os-release: %s", cause(err))
	default:
		m.no("os.version", "/etc/os-release has no VERSION_ID: the distribution has no versions")
	}
	if name := facts["PRETTY_NAME"]; name != "" {
		m.out["os.release"] = name
	}
	if kernel, err := m.line("proc/sys/kernel/osrelease"); err == nil && kernel != "" {
		m.out["os.build"] = kernel
	}
	for _, stamp := range []string{"var/lib/apt/periodic/unattended-upgrades-stamp",
		"var/lib/apt/periodic/upgrade-stamp"} {
		if info, err := fs.Stat(m.tree, stamp); err == nil {
			m.out["os.patched_at"] = info.ModTime().UTC().Format(time.RFC3339)
			return
		}
	}
	m.no("os.patched_at", "no record of automatic upgrades in /var/lib/apt/periodic")
}

// mount is a line of /proc/self/mountinfo (proc(5)).
type mount struct{ device, point, kind, source string }

func (m *machine) mounts() ([]mount, error) {
	text, err := m.line("proc/self/mountinfo")
	if err != nil {
		return nil, err
	}
	var out []mount
	for _, l := range strings.Split(text, "\n") {
		left, right, ok := strings.Cut(l, " - ")
		a, b := strings.Fields(left), strings.Fields(right)
		if ok && len(a) >= 5 && len(b) >= 2 {
			out = append(out, mount{a[2], a[4], b[0], b[1]})
		}
	}
	return out, nil
}

// volumes reports each mounted block device and whether a dm-crypt layer lies
// under it.
func (m *machine) volumes() {
	mounts, err := m.mounts()
	if err != nil {
		m.no("storage.encrypted", "/proc/self/mountinfo: %s", cause(err))
		return
	}
	type volume struct {
		Name      string `json:"name"`
		System    bool   `json:"system"`
		Encrypted bool   `json:"encrypted"`
	}
	list, seen, root := []volume{}, []string{}, "nothing is mounted at /"
	for _, mt := range mounts {
		block := m.block(mt)
		switch {
		case block == "" && mt.point == "/":
			root = fmt.Sprintf("the root file system is %s, of which no block device shows", mt.kind)
			continue
		case block == "" || slices.Contains(seen, block):
			continue
		}
		encrypted, known := m.encrypted(block, 0)
		if mt.point == "/" {
			if root = "the layers under " + mt.source + " cannot be read"; known {
				root, m.out["storage.encrypted"] = "", encrypted
			}
		}
		if known {
			seen = append(seen, block)
			list = append(list, volume{mt.point, mt.point == "/", encrypted})
		}
	}
	if root != "" {
		m.no("storage.encrypted", "%s", root)
	}
	if len(list) > 0 {
		m.out["volumes"] = list
	}
}

// block returns the folder of a mount's block device in /sys, "" for none.
func (m *machine) block(mt mount) string {
	if dir := "sys/dev/block/" + mt.device; m.exists(dir) {
		return dir
	}
	// Some file systems have a device number of their own; the source tells.
	name, mapped := strings.CutPrefix(mt.source, "/dev/mapper/")
	if mapped {
		entries, _ := fs.ReadDir(m.tree, "sys/block") // none: not found below
		for _, e := range entries {
			if text, err := m.line("sys/block/" + e.Name() + "/dm/name"); err == nil && text == name {
				return "sys/block/" + e.Name()
			}
		}
		return ""
	}
	if name, ok := strings.CutPrefix(mt.source, "/dev/"); ok && m.exists("sys/class/block/"+name) {
		return "sys/class/block/" + name
	}
	return ""
}

// maxLayers bounds how deep block devices are stacked.
const maxLayers = 8

// encrypted reports whether dm-crypt lies in or under a block device: in every
// device it is made of.
func (m *machine) encrypted(dir string, depth int) (yes, known bool) {
	if uuid, err := m.line(dir + "/dm/uuid"); err == nil && strings.HasPrefix(uuid, "CRYPT-") {
		return true, true
	}
	if depth == maxLayers {
		return false, false
	}
	slaves, err := fs.ReadDir(m.tree, dir+"/slaves")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, false
	}
	for _, s := range slaves {
		if yes, known := m.encrypted(dir+"/slaves/"+s.Name(), depth+1); !yes {
			return false, known
		}
	}
	return len(slaves) > 0, true
}

// secureBoot is the variable of UEFI 2.10, 3.3: four bytes of attributes and one of value.
const secureBoot = "sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c"

func (m *machine) boot() {
	firmware, _ := fs.ReadDir(m.tree, "sys/firmware") // none: told of below
	raw, err := fs.ReadFile(m.tree, secureBoot)
	switch {
	case err == nil && len(raw) == 5:
		m.out["secure_boot"] = raw[4] == 1
	case err == nil:
		m.no("secure_boot", "the variable SecureBoot has %d bytes, not 5", len(raw))
	case m.exists("sys/firmware/efi/efivars"):
		m.no("secure_boot", "the variable SecureBoot cannot be read: %s", cause(err))
	case m.exists("sys/firmware/efi"):
		m.no("secure_boot", "efivars is not mounted")
	case len(firmware) == 0:
		m.no("secure_boot", "/sys/firmware shows nothing; this may be a container")
	default:
		m.out["secure_boot"] = false // started by a BIOS, which has no such thing
	}
	switch chips, err := fs.ReadDir(m.tree, "sys/class/tpm"); {
	case err == nil:
		m.out["tpm.present"] = len(chips) > 0
	default:
		m.no("tpm.present", "the kernel has no driver for security chips: /sys/class/tpm: %s", cause(err))
	}
}

func (m *machine) firewall() {
	enabled := func(unit string) bool {
		return m.exists("etc/systemd/system/multi-user.target.wants/"+unit) ||
			m.exists("etc/systemd/system/sysinit.target.wants/"+unit)
	}
	nft, nftErr := m.line("etc/nftables.conf")
	ufw, ufwErr := m.line("etc/ufw/ufw.conf")
	on := slices.ContainsFunc(strings.Split(ufw, "\n"),
		func(l string) bool { return strings.EqualFold(strings.TrimSpace(l), "ENABLED=yes") })
	switch {
	case on, enabled("firewalld.service"):
		m.out["firewall.on"] = true
	case enabled("nftables.service") && nftErr == nil:
		m.out["firewall.on"] = filters(nft)
	case ufwErr == nil:
		m.out["firewall.on"] = false
	case errors.Is(ufwErr, fs.ErrPermission):
		m.no("firewall.on", "/etc/ufw/ufw.conf: %s", cause(ufwErr))
	default:
		m.no("firewall.on", "neither ufw, firewalld nor nftables is set up, and another firewall cannot be told of")
	}
}

// filters reports whether a ruleset of nft(8) has a chain on the way in.
func filters(ruleset string) bool {
	for _, l := range strings.Split(ruleset, "\n") {
		if l, _, _ = strings.Cut(l, "#"); strings.Contains(strings.Join(strings.Fields(l), " "), "hook input") {
			return true
		}
	}
	return false
}

func (m *machine) antimalware() {
	var newest time.Time
	for _, base := range []string{"daily.cld", "daily.cvd"} {
		if info, err := fs.Stat(m.tree, "var/lib/clamav/"+base); err == nil && info.ModTime().After(newest) {
			newest = info.ModTime()
		}
	}
	if newest.IsZero() {
		m.no("antimalware.on", "no antimalware that this collector knows of is installed")
		return
	}
	m.out["antimalware.on"] = m.exists("run/clamav/clamd.ctl") || m.exists("run/clamav/clamd.pid")
	m.out["antimalware.updated_at"] = newest.UTC().Format(time.RFC3339)
}

func (m *machine) network() {
	links, err := fs.ReadDir(m.tree, "sys/class/net")
	if err != nil {
		m.no("network.macs", "/sys/class/net: %s", cause(err))
		return
	}
	macs := []string{}
	for _, l := range links {
		// Links without a device behind them are made by software.
		if mac, err := m.line("sys/class/net/" + l.Name() + "/address"); err == nil &&
			m.exists("sys/class/net/"+l.Name()+"/device") && mac != "" && mac != "00:00:00:00:00:00" {
			macs = append(macs, mac)
		}
	}
	slices.Sort(macs)
	m.out["network.macs"] = slices.Compact(macs)
}

// unknowable are attributes that no file of a Linux machine tells reliably.
func (m *machine) unknowable() {
	m.no("screen_lock.after", "it is a setting of each person's session")
	m.no("passcode.set", "whether every account has a password is not told by files that may be read")
}

// maxCertificateFile bounds a file of certificates, in bytes.
const maxCertificateFile = 1 << 20

// certificates reports the certificates in a folder: PEM and DER files.
func (m *machine) certificates(folder fs.FS) error {
	entries, err := fs.ReadDir(folder, ".")
	if err != nil {
		m.no("certs", "the folder of certificates: %s", cause(err))
		return nil
	}
	list := []map[string]string{}
	for _, e := range entries {
		if e.IsDir() || !slices.Contains([]string{".pem", ".crt", ".cer", ".der"},
			strings.ToLower(path.Ext(e.Name()))) {
			continue
		}
		if info, err := e.Info(); err == nil && info.Size() > maxCertificateFile {
			return fmt.Errorf("%s is larger than %s bytes", e.Name(), strconv.Itoa(maxCertificateFile))
		}
		raw, err := fs.ReadFile(folder, e.Name())
		if err != nil {
			return fmt.Errorf("%s: %w", e.Name(), err)
		}
		found := 0
		for rest := raw; ; found++ {
			var block *pem.Block
			if block, rest = pem.Decode(rest); block == nil {
				break
			}
			if block.Type == "CERTIFICATE" { // a key beside it stays where it is
				list = append(list, map[string]string{"pem": string(pem.EncodeToMemory(&pem.Block{Type: block.Type,
					Bytes: block.Bytes}))})
			}
		}
		if found == 0 {
			list = append(list, map[string]string{"pem": string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE",
				Bytes: raw}))})
		}
	}
	m.out["certs"] = list
	return nil
}
