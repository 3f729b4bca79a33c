package demo

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/internal/agent"
	"ironledger.example/internal/standin"
)

// Newcomer is a laptop that nobody knows yet: the files of a small Linux machine in a folder, with a site's checks,
// so that an agent on this machine has something to read that can be broken and mended.
type Newcomer struct{ dir string }

// The newcomer.
const (
	NewcomerID     = "GF-L-1070"
	NewcomerSerial = "GF-L-1070-S"
	NewcomerOwner  = "edda.brandt@gullholm.example"
	GatewayName    = "harbour-gateway"
)

// ours is what no file of the machine tells.
var ours = map[string]json.RawMessage{"managed": json.RawMessage("true"), "ownership": json.RawMessage(`"company"`)}

// secureBootOn is the variable of UEFI 2.10, 3.3: four bytes of attributes and one of value.
const secureBootOn = "\x06\x00\x00\x00\x01"

// files are those of the machine, by path below its root.
var files = map[string]string{
	"etc/os-release":     "ID=debian\nVERSION_ID=\"12\"\nPRETTY_NAME=\"Debian GNU/Linux 12\"\n",
	"etc/debian_version": "12.9\n",
	"etc/machine-id":     "5b1f0c2d7e9a4c5f8d3b6a7081920304\n", "etc/hostname": "edda-laptop\n",
	"etc/ufw/ufw.conf":              "ENABLED=yes\n",
	"sys/class/dmi/id/sys_vendor":   "Skerry Works\n",
	"sys/class/dmi/id/product_name": "Tern 14\n", "sys/class/dmi/id/chassis_type": "10\n",
	"sys/class/dmi/id/product_serial": NewcomerSerial + "\n",
	"proc/self/mountinfo":             "21 1 254:0 / / rw - ext4 /dev/mapper/root rw\n",
	"proc/sys/kernel/hostname":        "edda-laptop\n", "proc/sys/kernel/osrelease": "6.1.0-28-amd64\n",
	"sys/dev/block/254:0/dm/uuid": "CRYPT-LUKS2-5b1f0c2d-root\n",
	"sys/firmware/efi/efivars/SecureBoot-8be4df61-93ca-11d2-aa0d-00e098032b8c": secureBootOn,
	"sys/class/tpm/tpm0/dev":             "10:224\n",
	"sys/class/net/en0/address":          "02:47:66:10:70:01\n",
	"sys/class/net/en0/device/vendor":    "0x8086\n",
	"var/lib/apt/periodic/upgrade-stamp": "",
	"etc/site/usb-ports":                 "closed\n",
}

// checks are the site's own, by name; %[1]s is the root of the machine.
var checks = map[string]string{
	"screen-lock": "#!/bin/sh\n# The desktops of the house lock after ten minutes.\necho " +
		"'{\"screen_lock.after\": \"10m\"}'\n",
	"usb-ports": `#!/bin/sh
# Are the ports closed to storage?
# watch: %[1]s/etc/site/usb-ports
case "$(cat '%[1]s/etc/site/usb-ports')" in
closed) echo '{"custom.usb_closed": true}' ;;
*) echo '{"custom.usb_closed": false}' ;;
esac
`,
}

// MakeNewcomer writes the newcomer's files into a folder that others may read: site checks run as nobody.
func MakeNewcomer(dir string) (*Newcomer, error) {
	n := &Newcomer{dir}
	write := func(path, text string, mode os.FileMode) error {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		return errors.Join(os.WriteFile(path, []byte(text), mode), os.Chmod(path, mode))
	}
	for name, text := range files {
		if err := write(filepath.Join(n.Root(), name), text, 0o644); err != nil {
			return nil, err
		}
	}
	for name, text := range checks {
		if strings.Contains(text, "%[1]s") {
			text = fmt.Sprintf(text, n.Root())
		}
		if err := write(filepath.Join(n.Checks(), name), text, 0o755); err != nil {
			return nil, err
		}
	}
	return n, nil
}

// Dir is the folder of all of it.
func (n *Newcomer) Dir() string { return n.dir }

// Root, Checks and Agent are the folders of the machine's files, of the site's checks and of the agent.
func (n *Newcomer) Root() string   { return filepath.Join(n.dir, "machine") }
func (n *Newcomer) Checks() string { return filepath.Join(n.dir, "checks") }
func (n *Newcomer) Agent() string  { return filepath.Join(n.dir, "agent") }

// Ports opens or closes the laptop's USB ports.
func (n *Newcomer) Ports(closed bool) error {
	word := "open\n"
	if closed {
		word = "closed\n"
	}
	return os.WriteFile(filepath.Join(n.Root(), "etc/site/usb-ports"), []byte(word), 0o644)
}

// Gate starts a gateway at another site, which lets devices in by their statements.
func Gate(ctx context.Context, url string) (string, error) {
	g := &standin.Gateway{Name: GatewayName, Keys: url + "/ssf/jwks.json", Least: "limited", Now: time.Now}
	return g.Start(ctx, "127.0.0.1:0")
}

// newcomer has a laptop come with a code, speak for itself, lose its access with a check that fails, and get it back.
func (t *teller) newcomer() error {
	t.scene("A laptop that nobody knows comes with a code, and speaks for itself from then on.")
	dir, err := os.MkdirTemp("", "ironledger-newcomer-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the checks run as nobody
		return err
	}
	n, err := MakeNewcomer(dir)
	if err != nil {
		return err
	}
	got, err := t.client.InviteDevice(t.ctx, NewcomerID, api.InviteDraft{Serial: NewcomerSerial})
	if err != nil {
		return err
	}
	in := got.Value
	t.say("code", "%s for %s, good for one certificate within the hour", in.Code, in.Device)
	folder, err := agent.Open(n.Agent())
	if err != nil {
		return err
	}
	if _, err := folder.Enrol(t.ctx, agent.Enrolment{Settings: agent.Settings{Service: in.Service, Device: in.Device,
		Owner: NewcomerOwner, Set: ours}, Code: in.Code, Fingerprint: in.Fingerprint}); err != nil {
		return err
	}
	t.say("enrols", "ironledger agent enrol: it knows the service by the fingerprint %s…, and has a certificate",
		in.Fingerprint[:16])
	r := agent.NewRunner(&agent.Reporter{Folder: folder, Machine: &agent.Linux{Root: n.Root()},
		Checks: agent.Checks{Dir: n.Checks(), User: "nobody", For: agent.DefaultCheckFor},
		Log:    slog.New(slog.DiscardHandler)})
	ctx, stop := context.WithCancel(t.ctx)
	ended := make(chan error, 1)
	go func() { ended <- r.Run(ctx) }()
	err = t.speaks(n, folder)
	stop()
	return errors.Join(err, <-ended)
}

// speaks tells what follows from what the newcomer says of itself.
func (t *teller) speaks(n *Newcomer, folder *agent.Folder) error {
	var st *agent.Status
	if err := t.await(func() bool {
		s, err := folder.Status()
		st = s
		return err == nil && s.Standing != nil && s.Standing.Certificate.Profile == "crew"
	}); err != nil {
		return err
	}
	o := st.Standing
	t.say("says", "what it read of itself, and two checks of the house: it stands at %s", t.Bold(o.Level))
	t.say("renews", "its first certificate was for an hour; now it has one of the profile %s until %s",
		o.Certificate.Profile, o.Certificate.NotAfter)
	token, _, err := folder.Statement(t.ctx, GatewayName, "", time.Now())
	if err != nil {
		return err
	}
	said, err := t.through(folder, token)
	if err != nil {
		return err
	}
	t.say("gateway", "at another site, by a signed statement and without asking anybody: %s", said)
	asked := func() (access.Outcome, error) {
		got, err := t.client.Evaluate(t.ctx, access.Evaluation{Subject: access.Entity{Type: "user",
			ID: NewcomerOwner},
			Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "resource", ID: "crew-rota"},
			Context: &access.Context{Device: &access.DeviceRef{ID: NewcomerID}}})
		if err != nil {
			return "", err
		}
		return got.Value.Context.Outcome, nil
	}
	for _, turn := range []struct {
		closed bool
		want   access.Outcome
		what   string
	}{{true, access.Allow, "with its ports closed"}, {false, access.Deny, "somebody opens the ports"}, {true,
		access.Allow, "they are closed again"}} {
		begun := time.Now()
		if err := n.Ports(turn.closed); err != nil {
			return err
		}
		var last error
		if err := t.await(func() bool {
			got, err := asked()
			last = err
			return err != nil || got == turn.want
		}); err != nil || last != nil {
			return errors.Join(err, last)
		}
		t.say("rota", "%s: %s, %s later", turn.what, t.Bold(strings.ToUpper(string(turn.want))), soon(begun))
	}
	return nil
}

// through goes through the gateway with a statement and the certificate that it is bound to.
func (t *teller) through(folder *agent.Folder, token string) (string, error) {
	own, err := folder.Certificate()
	if err != nil {
		return "", err
	}
	at, err := Gate(t.ctx, t.url)
	if err != nil {
		return "", err
	}
	transport := &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12,
		InsecureSkipVerify: true, // a stand-in on this machine
		Certificates:       []tls.Certificate{*own}}}
	defer transport.CloseIdleConnections()
	r, err := http.NewRequestWithContext(t.ctx, http.MethodGet, at, nil)
	if err != nil {
		return "", err
	}
	r.Header.Set("Authorization", "Bearer "+token)
	w, err := (&http.Client{Transport: transport}).Do(r)
	if err != nil {
		return "", err
	}
	defer w.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(w.Body, 4<<10))
	if err == nil && w.StatusCode != http.StatusOK {
		err = errors.New(string(raw))
	}
	return strings.TrimSpace(string(raw)), err
}
