package authority

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"strings"
	"time"

	"ironledger.example/core/authority"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// How long a code counts.
const (
	InviteFor = time.Hour
	maxInvite = 7 * 24 * time.Hour
)

// Invitation is a code by which one device can ask for a certificate.
type Invitation struct {
	Device, Code, Profile string
	Until                 int64
	New                   bool   // nothing has been heard of the device yet
	Service               string // where devices are answered, "" for nowhere
	Fingerprint           string // of the authority that certifies that, "" when ours does not
}

// alphabet is that of codes: no letter looks like another (Crockford's base 32).
var alphabet = base32.NewEncoding("0123456789ABCDEFGHJKMNPQRSTVWXYZ").WithPadding(base32.NoPadding)

// newCode is a code of 100 bits, as people write it.
func newCode() string {
	raw := make([]byte, 13)
	rand.Read(raw)
	text := alphabet.EncodeToString(raw)[:20]
	return text[:5] + "-" + text[5:10] + "-" + text[10:15] + "-" + text[15:]
}

// Invite makes a code for a device, in place of the one that it may have. One that is not known needs its serial:
// with its certificate it becomes known.
func (s *Service) Invite(ctx context.Context, actor, name, serial, profile string,
	lasts time.Duration) (*Invitation, error) {
	set, err := settings(s.Snapshot())
	if err != nil {
		return nil, err
	}
	lasts = cmp.Or(lasts, InviteFor)
	switch serial = strings.TrimSpace(serial); {
	case lasts < time.Minute || lasts > maxInvite:
		return nil, fault.Input("/for", "a code counts for a minute to a week")
	case profile != "" && set.Profile(profile) == nil:
		var ids []string
		for _, p := range set.Profiles {
			ids = append(ids, p.ID)
		}
		return nil, fault.Input("/profile", "there is no profile "+profile+fault.Nearest(profile, ids))
	case len(serial) > authority.MaxID || strings.ContainsAny(serial, "\x00\r\n"):
		return nil, fault.Inputf("/serial", "a serial has at most %d bytes in one line", authority.MaxID)
	case name == "" || name == kept.ForRoster || len(name) > authority.MaxID || strings.ContainsAny(name,
		"\x00\r\n:"):
		return nil, fault.Inputf("/device", "a device has an id of at most %d bytes, without a colon",
			authority.MaxID)
	}
	code := newCode()
	out := &Invitation{Code: code, Profile: profile}
	s.atDoor(out)
	hash := sha256.Sum256([]byte(plainCode(code)))
	err = s.Do(ctx, func(c *state.Change) error {
		out.Device = c.Resolve(name)
		key := evidence.Folded(evidence.BySerial, serial)
		switch d := c.Device(out.Device); {
		case serial != "" && (key.Text == "" || c.Base.Book.Resolver.Ignores(key)):
			return fault.Inputf("/serial", "%s is no serial, but what firmware leaves there", serial)
		case d == nil && serial == "":
			return fault.Inputf("/device",
				"there is no device %s; give its serial too if nothing was heard of it yet", name)
		case d == nil:
			if of, known := c.Find(key); known {
				return fault.Inputf("/serial", "the serial is that of %s", of)
			}
			out.New = true
		case serial != "" && !strings.EqualFold(namesOf(d).Serial, serial):
			return fault.Inputf("/serial", "the serial of %s is another; leave it out, for the device is known", d.ID)
		case d.Retired != nil:
			return fault.Input("/device", d.WhyOutside())
		case len(d.ID) > authority.MaxID || strings.Contains(d.ID, ":"):
			return fault.Inputf("/device", "a certificate cannot name %s: it has a colon or more than %d bytes", d.ID,
				authority.MaxID)
		}
		out.Until = c.Now + lasts.Microseconds()
		c.Record(actor, &event.DeviceInvited{Device: out.Device, Serial: serial, Profile: profile,
			Until: value.FormatTime(out.Until)})
		return state.Put(c, state.InviteKind, out.Device, &kept.Invite{Device: out.Device, Serial: serial,
			Profile: profile, Hash: hash[:],
			Until: out.Until, At: c.Now, By: actor})
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// MaxInvited bounds how many devices of the roster a code is for.
const MaxInvited = 10_000

// InviteRoster makes a code for some devices on the roster, each by its serial, in place of the one there may be.
// What is not known yet becomes known with its certificate.
func (s *Service) InviteRoster(ctx context.Context, actor, profile string, devices int,
	lasts time.Duration) (*Invitation, error) {
	set, err := settings(s.Snapshot())
	if err != nil {
		return nil, err
	}
	lasts = cmp.Or(lasts, InviteFor)
	switch {
	case lasts < time.Minute || lasts > maxInvite:
		return nil, fault.Input("/for", "a code counts for a minute to a week")
	case devices < 1 || devices > MaxInvited:
		return nil, fault.Inputf("/devices", "a code is for 1 to %d devices", MaxInvited)
	case profile != "" && set.Profile(profile) == nil:
		return nil, fault.Input("/profile", "there is no profile "+profile)
	}
	out := &Invitation{Code: newCode(), Profile: profile}
	s.atDoor(out)
	hash := sha256.Sum256([]byte(plainCode(out.Code)))
	err = s.Do(ctx, func(c *state.Change) error {
		out.Until = c.Now + lasts.Microseconds()
		c.Record(actor, &event.DeviceInvited{Devices: devices, Profile: profile, Until: value.FormatTime(out.Until)})
		return state.Put(c, state.InviteKind, kept.ForRoster, &kept.Invite{Device: kept.ForRoster,
			Profile: profile, Left: devices,
			Hash: hash[:], Until: out.Until, At: c.Now, By: actor})
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// atDoor says in an invitation where devices are answered.
func (s *Service) atDoor(in *Invitation) {
	s.mu.Lock()
	door := s.door
	s.mu.Unlock()
	if in.Service = door.URL; door.Own {
		if by, err := s.Serves(); err == nil {
			in.Fingerprint = state.Fingerprint(by)
		}
	}
}

// wrong counts a wrong code of a device; after some the right one counts no more.
func (s *Service) wrong(ctx context.Context, device string, tried *kept.Invite) error {
	err := s.Do(context.WithoutCancel(ctx), func(c *state.Change) error {
		in := state.Get(c, state.InviteKind, device)
		if in == nil || subtle.ConstantTimeCompare(in.Hash, tried.Hash) != 1 || in.Attempts >= maxAttempts {
			return nil
		}
		next := *in
		most, who, actor := maxAttempts, event.DeviceInvited{Device: device}, ledger.Device+" "+device
		if device == kept.ForRoster {
			most, who, actor = maxRosterAttempts, event.DeviceInvited{}, ledger.Service
		}
		if next.Attempts++; next.Attempts == most {
			who.Spoilt = most
			c.Record(actor, &who)
		}
		return state.Put(c, state.InviteKind, device, &next)
	})
	if err != nil {
		return err
	}
	return &UnknownError{wrongCode}
}
