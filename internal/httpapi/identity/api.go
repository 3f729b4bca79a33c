package identity

import (
	"encoding/pem"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/authority"
	"ironledger.example/core/value"
	issuing "ironledger.example/internal/authority"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/service"
	"ironledger.example/internal/statement"
	"ironledger.example/internal/view"
)

// API answers people who run the authority.
type API struct{ service *service.Service }

// ForPeople answers for a service.
func ForPeople(s *service.Service) API { return API{s} }

// GetAuthority shows the authority and its profiles.
func (a API) GetAuthority(*gin.Context) (*api.AuthorityState, error) { return a.state(), nil }

func (a API) state() *api.AuthorityState {
	rb := a.service.Snapshot().Book.Rulebook
	out := &api.AuthorityState{Authorities: []api.Authority{}, Profiles: []api.CertificateProfile{},
		Trouble: a.service.Authority.Trouble(), Trusted: issuing.PEM(a.service.Authority.Trusted())}
	for _, x := range a.service.Authority.Show() {
		shown := api.Authority{ID: x.ID, State: x.State, Subject: x.Subject, SHA256: x.SHA256, Key: string(x.Key),
			Root: x.Root,
			At:   value.FormatTime(x.At), By: x.By, Live: x.Live, Revoked: x.Revoked}
		if x.NotAfter != 0 {
			shown.NotAfter = value.FormatTime(x.NotAfter)
		}
		if len(x.Request) > 0 {
			shown.Request = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: x.Request}))
		}
		for _, der := range append([][]byte{x.Certificate}, x.Above...) {
			if len(der) > 0 {
				shown.Certificate += string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
			}
		}
		out.Authorities = append(out.Authorities, shown)
	}
	set := rb.Authority
	if set == nil {
		return out
	}
	out.ID, out.Name = set.ID, set.Name
	for i := range set.Profiles {
		p := &set.Profiles[i]
		out.Profiles = append(out.Profiles, api.CertificateProfile{ID: p.ID, Title: p.Title,
			Applies:  p.Applies.String(),
			Lifetime: value.FormatDuration(p.Lifetime), RenewFrom: value.FormatDuration(p.RenewFrom),
			Keys:  words(p.Keys),
			Least: rb.LevelName(p.Least), Holds: p.Holds})
	}
	return out
}

func words(keys []authority.Key) (out []string) {
	for _, k := range keys {
		out = append(out, string(k))
	}
	return out
}

// told is the state after an act.
func (a API) told(_ *kept.Authority, err error) (*api.AuthorityState, error) {
	if err != nil {
		return nil, err
	}
	return a.state(), nil
}

// RotateAuthority makes another authority.
func (a API) RotateAuthority(c *gin.Context, in api.Reason) (*api.AuthorityState, error) {
	return a.told(a.service.Authority.Rotate(c.Request.Context(), edge.Actor(c).Name, in.Reason))
}

// ImportAuthority takes a key and its certificate.
func (a API) ImportAuthority(c *gin.Context, in api.AuthorityDraft) (*api.AuthorityState, error) {
	return a.told(a.service.Authority.Import(c.Request.Context(), edge.Actor(c).Name, in.Key, in.Certificate,
		in.Reason))
}

// RequestAuthority asks for a certificate of an authority above.
func (a API) RequestAuthority(c *gin.Context, in api.Reason) (*api.AuthorityState, error) {
	return a.told(a.service.Authority.Ask(c.Request.Context(), edge.Actor(c).Name, in.Reason))
}

// InstallAuthority takes that certificate.
func (a API) InstallAuthority(c *gin.Context, in api.AuthorityDraft) (*api.AuthorityState, error) {
	if in.Key != "" {
		return nil, fault.Input("/key", "the key was made with the request; leave it out")
	}
	return a.told(a.service.Authority.Install(c.Request.Context(), edge.Actor(c).Name, in.Certificate, in.Reason))
}

// DropAuthority gives up one that does not sign.
func (a API) DropAuthority(c *gin.Context, id string, in api.Reason) (*api.AuthorityState, error) {
	return a.told(nil, a.service.Authority.Drop(c.Request.Context(), edge.Actor(c).Name, id, in.Reason))
}

// lasts is how long a code is to count, 0 for as long as they do.
func lasts(text string) (time.Duration, error) {
	if text == "" {
		return 0, nil
	}
	d, err := value.ParseDuration(text)
	if err != nil {
		return 0, fault.Input("/for", err.Error())
	}
	return time.Duration(d.Num()) * time.Microsecond, nil
}

// InviteRoster makes a code for devices on the roster.
func (a API) InviteRoster(c *gin.Context, in api.RosterInviteDraft) (*api.Invitation, error) {
	lasts, err := lasts(in.For)
	if err != nil {
		return nil, err
	}
	x, err := a.service.Authority.InviteRoster(c.Request.Context(), edge.Actor(c).Name, in.Profile, in.Devices, lasts)
	if err != nil {
		return nil, err
	}
	return &api.Invitation{Code: x.Code, Profile: x.Profile, Until: value.FormatTime(x.Until), Service: x.Service,
		Fingerprint: x.Fingerprint}, nil
}

// InviteDevice makes a code for a device.
func (a API) InviteDevice(c *gin.Context, id string, in api.InviteDraft) (*api.Invitation, error) {
	lasts, err := lasts(in.For)
	if err != nil {
		return nil, err
	}
	x, err := a.service.Authority.Invite(c.Request.Context(), edge.Actor(c).Name, id, in.Serial, in.Profile, lasts)
	if err != nil {
		return nil, err
	}
	return &api.Invitation{Device: x.Device, Code: x.Code, Profile: x.Profile, Until: value.FormatTime(x.Until),
		New: x.New, Service: x.Service, Fingerprint: x.Fingerprint}, nil
}

// MakeStatement states how a device stands.
func (a API) MakeStatement(c *gin.Context, id string, in api.StatementDraft) (*api.Statement, error) {
	m, err := a.service.Statement.Make(c.Request.Context(), statement.Asking{Audience: in.Audience, Nonce: in.Nonce,
		Device: id, Actor: edge.Actor(c).Name})
	if err != nil {
		return nil, err
	}
	return &api.Statement{Statement: m.Token, Device: m.Claims.Subject, Level: m.Claims.Standing.Level,
		Until: value.FormatTime(m.Claims.Expires * 1_000_000)}, nil
}

// RevokeCertificates takes back a certificate, or all of a device.
func (a API) RevokeCertificates(c *gin.Context, in api.CertificateRevocation) (api.List[api.IssuedCertificate],
	error) {
	if (in.Serial == "") == (in.Device == "") {
		return api.List[api.IssuedCertificate]{}, fault.Input("",
			"say serial for one certificate, or device for all of one")
	}
	if in.Code == "" {
		in.Code = "privilegeWithdrawn"
	}
	list, err := a.service.Authority.Revoke(c.Request.Context(), edge.Actor(c).Name, in.Serial, in.Device,
		string(in.Code), in.Reason)
	rb, out := a.service.Snapshot().Book.Rulebook, []api.IssuedCertificate{}
	for i := range list {
		out = append(out, view.Issued(rb, &list[i]))
	}
	return edge.All(out), err
}
