package standin

import (
	"bytes"
	"cmp"
	"context"
	"crypto/md5"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	libradius "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc2868"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/rfc3576"
	"layeh.com/radius/vendors/microsoft"

	"ironledger.example/internal/radius"
)

// AccessPoint is a wireless access point that stands in for a real one: it asks over RADIUS whom to let in, keeps who is
// on which VLAN, and does what it is told of them.
type AccessPoint struct {
	Name    string
	Address string // its own hardware address
	SSID    string
	Secret  string
	Ask     string // where it asks
	Account string // where it tells who is there
	From    string // its own address; "" for whichever
	// Places are what each VLAN reaches, in words.
	Places map[string][]string

	told net.PacketConn

	mu      sync.Mutex
	on      map[string]*OnNetwork // by hardware address
	next    byte                  // of identifiers
	counter int
	deaf    bool
	lies    bool
	changed chan struct{} // closed when somebody is told to move or to leave
}

// OnNetwork is a device that an access point let in.
type OnNetwork struct {
	Station string   `json:"station"`
	Name    string   `json:"name"`
	VLAN    string   `json:"vlan,omitempty"`
	Filter  string   `json:"filter,omitempty"`
	Session string   `json:"session"`
	IP      string   `json:"ip"`
	Seconds uint32   `json:"seconds"`
	Reaches []string `json:"reaches"`
	Moved   int      `json:"moved"` // how often it was told to move it
	class   []byte
}

// Station is a device that comes to an access point.
type Station struct {
	Address string      // of its interface
	IP      string      // that it gets there
	Name    string      // that it says it is
	TLS     *tls.Config // nil: it has no certificate, and is let in by its address or not at all
}

// RefusedError says that a device was not let in, and what it was told.
type RefusedError struct{ Message string }

func (e *RefusedError) Error() string {
	return cmp.Or(e.Message, "it is not let in")
}

// Open begins to listen for what it is told, on loopback. ToldAt is then where.
func (a *AccessPoint) Open() (err error) {
	a.on, a.changed = map[string]*OnNetwork{}, make(chan struct{})
	a.told, err = net.ListenPacket("udp", net.JoinHostPort(cmp.Or(a.From, "127.0.0.1"), "0"))
	return err
}

// dial reaches the service from its own address.
func (a *AccessPoint) dial(ctx context.Context, to string) (net.Conn, error) {
	d := net.Dialer{}
	if a.From != "" {
		d.LocalAddr = &net.UDPAddr{IP: net.ParseIP(a.From)}
	}
	return d.DialContext(ctx, "udp", to)
}

// ToldAt is the port at which it is told of changes.
func (a *AccessPoint) ToldAt() int { return a.told.LocalAddr().(*net.UDPAddr).Port }

// Serve does what it is told until ctx ends.
func (a *AccessPoint) Serve(ctx context.Context) {
	stop := context.AfterFunc(ctx, func() { a.told.Close() })
	defer stop()
	buffer := make([]byte, libradius.MaxPacketLength)
	for {
		n, from, err := a.told.ReadFrom(buffer)
		if err != nil {
			return
		}
		raw := slices.Clone(buffer[:n])
		a.mu.Lock()
		deaf := a.deaf
		a.mu.Unlock()
		if deaf || !libradius.IsAuthenticRequest(raw, []byte(a.Secret)) {
			continue
		}
		p, err := libradius.Parse(raw, []byte(a.Secret))
		if err != nil {
			continue
		}
		if answer, err := radius.Encode(a.obey(ctx, p)); err == nil {
			_, _ = a.told.WriteTo(answer, from)
		}
	}
}

// Deaf has it hear nothing that it is told, or hear again.
func (a *AccessPoint) Deaf(is bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.deaf = is
}

// Lies has it say that it moves devices, and leave them where they are; or be honest again.
func (a *AccessPoint) Lies(does bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.lies = does
}

// Saying is what an access point can say of itself.
type Saying int

const (
	BeginsAnew  Saying = iota // it starts, and nobody is there
	HasStranger               // a device is there that nobody let in
	AllStay                   // who is there is there still
)

// Says has it say something.
func (a *AccessPoint) Says(ctx context.Context, what Saying) error {
	if what == HasStranger {
		return a.account(ctx, &OnNetwork{Station: "02:00:5e:00:53:ee", Session: "stray"},
			rfc2866.AcctStatusType_Value_Start)
	}
	if what == AllStay {
		for _, x := range a.list() {
			if err := a.account(ctx, &x, rfc2866.AcctStatusType_Value_InterimUpdate); err != nil {
				return err
			}
		}
		return nil
	}
	a.mu.Lock()
	a.on = map[string]*OnNetwork{}
	a.mu.Unlock()
	return a.account(ctx, &OnNetwork{Session: "all"}, rfc2866.AcctStatusType_Value_AccountingOn)
}

// obey does what a request says (RFC 5176).
func (a *AccessPoint) obey(ctx context.Context, p *libradius.Packet) *libradius.Packet {
	a.mu.Lock()
	x := a.on[radius.Station(p)]
	leaves := p.Code == libradius.CodeDisconnectRequest
	if session, err := rfc2866.AcctSessionID_LookupString(p); x != nil && err == nil && session != x.Session {
		x = nil // it is about an earlier one
	}
	if x == nil || !leaves && p.Code != libradius.CodeCoARequest {
		a.mu.Unlock()
		out := p.Response(p.Code + 2)
		_ = rfc3576.ErrorCause_Set(out, rfc3576.ErrorCause_Value_SessionContextNotFound)
		return out
	}
	if leaves {
		delete(a.on, x.Station)
	} else if !a.lies {
		a.grant(x, p)
		x.Moved++
	}
	gone := *x
	close(a.changed)
	a.changed = make(chan struct{})
	a.mu.Unlock()
	kind := rfc2866.AcctStatusType_Value_InterimUpdate
	if leaves {
		kind = rfc2866.AcctStatusType_Value_Stop
	}
	go func() {
		if err := a.account(context.WithoutCancel(ctx), &gone, kind); err != nil {
			slog.Debug("the access point could not tell", "error", err)
		}
	}()
	return p.Response(p.Code + 1)
}

// grant puts into force what an answer carries. The caller holds the lock.
func (a *AccessPoint) grant(x *OnNetwork, p *libradius.Packet) {
	_, x.VLAN = rfc2868.TunnelPrivateGroupID_GetString(p)
	x.Filter = rfc2865.FilterID_GetString(p)
	x.Seconds = uint32(rfc2865.SessionTimeout_Get(p))
	x.Reaches = a.Places[x.VLAN]
	if class, err := rfc2865.Class_Lookup(p); err == nil {
		x.class = class
	}
}

// Join asks whether a device may come, and lets it in. The error is a [*RefusedError] for one that may not.
func (a *AccessPoint) Join(ctx context.Context, s Station) (*OnNetwork, error) {
	answer, err := a.ask(ctx, s)
	if err != nil {
		return nil, err
	}
	a.mu.Lock()
	a.counter++
	x := &OnNetwork{Station: s.Address, Name: cmp.Or(rfc2865.UserName_GetString(answer), s.Name), IP: s.IP,
		Session: fmt.Sprintf("%s-%04d", a.Name, a.counter)}
	a.grant(x, answer)
	a.on[s.Address] = x
	copied := *x
	a.mu.Unlock()
	return &copied, a.account(ctx, &copied, rfc2866.AcctStatusType_Value_Start)
}

// Asks asks whether a device may come, and does not let it in. The error is a [*RefusedError] for one that may not.
func (a *AccessPoint) Asks(ctx context.Context, s Station) error {
	_, err := a.ask(ctx, s)
	return err
}

// Leave has a device go.
func (a *AccessPoint) Leave(ctx context.Context, station string) error {
	a.mu.Lock()
	x := a.on[station]
	delete(a.on, station)
	a.mu.Unlock()
	if x == nil {
		return nil
	}
	return a.account(ctx, x, rfc2866.AcctStatusType_Value_Stop)
}

// On is the device of a hardware address as it is there now, nil for none.
func (a *AccessPoint) On(station string) *OnNetwork {
	a.mu.Lock()
	defer a.mu.Unlock()
	if x := a.on[station]; x != nil {
		copied := *x
		return &copied
	}
	return nil
}

// Await waits until a device is there in a way, or gone (nil).
func (a *AccessPoint) Await(ctx context.Context, station string, as func(*OnNetwork) bool) error {
	for {
		a.mu.Lock()
		changed := a.changed
		a.mu.Unlock()
		if as(a.On(station)) {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// request begins a request about a device.
func (a *AccessPoint) request(code libradius.Code, station, name string) *libradius.Packet {
	p := libradius.New(code, []byte(a.Secret))
	a.mu.Lock()
	a.next++
	p.Identifier = a.next
	a.mu.Unlock()
	_ = rfc2865.UserName_SetString(p, name)
	_ = rfc2865.NASIdentifier_SetString(p, a.Name)
	_ = rfc2865.CalledStationID_SetString(p, dashed(a.Address)+":"+a.SSID)
	_ = rfc2865.CallingStationID_SetString(p, dashed(station))
	_ = rfc2865.NASPortType_Set(p, 19) // Wireless - IEEE 802.11 (RFC 2865, section 5.41)
	return p
}

func dashed(address string) string { return strings.ToUpper(strings.ReplaceAll(address, ":", "-")) }

// ask asks for a device until it is let in or not.
func (a *AccessPoint) ask(ctx context.Context, s Station) (*libradius.Packet, error) {
	conn, err := a.dial(ctx, a.Ask)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if s.TLS == nil {
		p := a.request(libradius.CodeAccessRequest, s.Address, strings.ReplaceAll(s.Address, ":", ""))
		_ = rfc2865.ServiceType_Set(p, rfc2865.ServiceType_Value_CallCheck)
		return a.answered(a.exchange(ctx, conn, p))
	}
	device := radius.NewSupplicant(s.Name, s.TLS)
	defer device.Close()
	says := append([]byte{2, 1, 0, byte(5 + len(s.Name)), 1}, s.Name...) // who it is (RFC 3748, section 5.1)
	var state []byte
	for range 50 {
		p := a.request(libradius.CodeAccessRequest, s.Address, s.Name)
		_ = rfc2869.EAPMessage_Set(p, says)
		if state != nil {
			_ = rfc2865.State_Set(p, state)
		}
		answer, err := a.exchange(ctx, conn, p)
		if err != nil {
			return nil, err
		}
		if answer.Code != libradius.CodeAccessChallenge {
			_, err := device.Answer(ctx, rfc2869.EAPMessage_Get(answer))
			if answer, refused := a.answered(answer, nil); refused != nil {
				return answer, refused
			}
			if err == nil && (!bytes.Equal(microsoft.MSMPPERecvKey_Get(answer, p), device.Keys.Receive) ||
				!bytes.Equal(microsoft.MSMPPESendKey_Get(answer, p), device.Keys.Send)) {
				err = errors.New("the keys for the link are others than the device has")
			}
			return answer, err
		}
		if says, err = device.Answer(ctx, rfc2869.EAPMessage_Get(answer)); err != nil {
			return nil, err
		}
		state = rfc2865.State_Get(answer)
	}
	return nil, errors.New("the conversation does not end")
}

func (*AccessPoint) answered(p *libradius.Packet, err error) (*libradius.Packet, error) {
	if err == nil && p.Code != libradius.CodeAccessAccept {
		return nil, &RefusedError{rfc2865.ReplyMessage_GetString(p)}
	}
	return p, err
}

// exchange sends a request and waits for the answer, and sends it again while none comes.
func (a *AccessPoint) exchange(ctx context.Context, conn net.Conn, p *libradius.Packet) (*libradius.Packet, error) {
	raw, err := radius.Encode(p)
	if err != nil {
		return nil, err
	}
	buffer := make([]byte, libradius.MaxPacketLength)
	for range 4 {
		if _, err = conn.Write(raw); err != nil {
			return nil, err
		}
		until := time.Now().Add(2 * time.Second)
		if end, has := ctx.Deadline(); has && end.Before(until) {
			until = end
		}
		if err = conn.SetReadDeadline(until); err != nil {
			return nil, err
		}
		n, err := conn.Read(buffer)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue
		}
		return radius.Authentic(buffer[:n], raw, p.Secret)
	}
	return nil, fmt.Errorf("nobody answers at %s", conn.RemoteAddr())
}

// account tells of a device that is there.
func (a *AccessPoint) account(ctx context.Context, x *OnNetwork, kind rfc2866.AcctStatusType) error {
	p := a.request(libradius.CodeAccountingRequest, x.Station, x.Name)
	p.Authenticator = [md5.Size]byte{}
	_ = rfc2866.AcctStatusType_Set(p, kind)
	_ = rfc2866.AcctSessionID_SetString(p, x.Session)
	if x.class != nil {
		_ = rfc2865.Class_Set(p, x.class)
	}
	if ip, err := netip.ParseAddr(x.IP); err == nil {
		_ = rfc2865.FramedIPAddress_Set(p, ip.AsSlice())
	}
	if x.VLAN != "" {
		_ = rfc2868.TunnelPrivateGroupID_SetString(p, 0, x.VLAN)
	}
	conn, err := a.dial(ctx, a.Account)
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = a.exchange(ctx, conn, p)
	return err
}

// list is who is there, in the order of their VLANs and addresses.
func (a *AccessPoint) list() []OnNetwork {
	a.mu.Lock()
	defer a.mu.Unlock()
	out := []OnNetwork{}
	for _, x := range a.on {
		out = append(out, *x)
	}
	slices.SortFunc(out, func(x, y OnNetwork) int {
		return cmp.Or(strings.Compare(x.VLAN, y.VLAN), strings.Compare(x.Station, y.Station))
	})
	return out
}

// ServeHTTP shows who is on which VLAN, and what that reaches; as JSON at clients.json.
func (a *AccessPoint) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if strings.HasSuffix(r.URL.Path, "/clients.json") {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(a.list())
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = accessPointPage.Execute(w, map[string]any{"A": a, "On": a.list()})
}

var accessPointPage = template.Must(template.New("").Funcs(template.FuncMap{"join": strings.Join}).Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta http-equiv="refresh" content="2"><title>{{.A.Name}}</title>
<style>body{font:16px/1.5 Georgia,serif;margin:2rem auto;max-width:60rem;padding:0 1rem;background:#faf7f0;color:#222}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.4rem .8rem .4rem 0;border-bottom:1px solid #cbb}
td{font-variant-numeric:tabular-nums;vertical-align:top}h1{font-size:1.4rem}.n{color:#655}</style>
<h1>{{.A.Name}}, an access point that stands in for a real one</h1>
<p class="n">Network {{.A.SSID}}. Who is here, on which VLAN, and what that reaches:</p>
<table><thead><tr><th>Device<th>Let in as<th>VLAN<th>Filter<th>Reaches<th>Moved</thead><tbody>
{{range .On}}<tr><td>{{.Station}}<br><span class="n">{{.IP}}</span><td>{{.Name}}<td>{{.VLAN}}<td>{{.Filter}}<td>{{join .Reaches ", "}}<td>{{.Moved}}{{else}}
<tr><td colspan="6" class="n">Nobody is here.{{end}}</tbody></table></html>`))
