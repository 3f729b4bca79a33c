// Package statement is how a device stands as others may check it without asking: the claims of an attestation result
// (RFC 9711; the IETF's work on attestation results, EAR), and what whoever relies on them compares. Signatures are
// not its business.
package statement

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// What the claims are: their profile (RFC 9711, section 4.3.2), who worked them out, and the name of ours.
const (
	Profile   = "https://ironledger.example/profiles/statement-1"
	Developer = "https://ironledger.example"
	MediaType = "application/eat+jwt" // RFC 9711, section 4.3.1
	Type      = "eat+jwt"             // of the token, in its header
	submodule = "device"
)

// How trustworthy a device is, as the appraisal's status says.
const (
	Affirming       = "affirming"       // as it should be
	Warning         = "warning"         // something is to be mended
	Contraindicated = "contraindicated" // at the lowest level
	None            = "none"            // no baseline covers it
)

// Claims are what a statement says. Moments are in seconds since the Unix epoch.
type Claims struct {
	Issuer   string    `json:"iss"`
	Subject  string    `json:"sub"` // the device's id
	Audience string    `json:"aud"`
	IssuedAt int64     `json:"iat"`
	Expires  int64     `json:"exp"`
	ID       string    `json:"jti"`
	Nonce    string    `json:"eat_nonce,omitempty"`
	Profile  string    `json:"eat_profile"`
	Verifier Verifier  `json:"ear.verifier-id"`
	Submods  Submods   `json:"submods"`
	Confirm  *Confirm  `json:"cnf,omitempty"`
	Standing *Standing `json:"https://ironledger.example/standing"`
}

// Verifier is who appraised the device.
type Verifier struct {
	Developer string `json:"developer"`
	Build     string `json:"build"`
}

// Submods are the appraisals, by part: ours are of the whole device.
type Submods map[string]Appraisal

// Appraisal is the result of one.
type Appraisal struct {
	Status string `json:"ear.status"`
	Policy string `json:"ear.appraisal-policy-id"`
}

// Confirm is the key of the device (RFC 7800, section 3.2; RFC 8705, section 3.1).
type Confirm struct {
	JWK         json.RawMessage `json:"jwk,omitempty"`
	Certificate string          `json:"x5t#S256,omitempty"`
}

// Standing is the standing itself.
type Standing struct {
	Level    string   `json:"level"`
	Ladder   []string `json:"ladder"` // lowest first
	Since    string   `json:"since"`
	Binding  []string `json:"binding"`               // the rules that hold the device down
	Next     string   `json:"next_change,omitempty"` // when it may change by itself
	Rulebook int64    `json:"rulebook"`
}

// Thumbprint names a certificate in DER as a statement does (RFC 8705, section 3.1).
func Thumbprint(der []byte) string {
	sum := sha256.Sum256(der)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// Status is the status of a level: where devices count as compliant from a level, and whether a baseline covers it.
func Status(rank, compliant int, covered bool) string {
	switch {
	case rank == 0:
		return Contraindicated
	case !covered:
		return None
	case rank >= compliant:
		return Affirming
	}
	return Warning
}

// Complete fills in what is the same in every statement.
func (c *Claims) Complete(build, policy, status string) {
	c.Profile, c.Verifier = Profile, Verifier{Developer, build}
	c.Submods = Submods{submodule: {status, policy}}
}

// The bounds of what an asker may say.
const (
	MaxAudience = 200
	minNonce    = 8 // RFC 9711, section 4.1
	maxNonce    = 88
)

// CheckAsked says why a statement cannot be made for an audience with a nonce, "" for none.
func CheckAsked(audience, nonce string) error {
	plain := func(s string) bool {
		return !strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r > '~' })
	}
	switch {
	case audience == "":
		return errors.New("say for whom: audience, the name by which the relying party knows itself")
	case len(audience) > MaxAudience || !plain(audience):
		return fmt.Errorf("an audience is up to %d letters, digits and signs without spaces", MaxAudience)
	case nonce != "" && (len(nonce) < minNonce || len(nonce) > maxNonce || !plain(nonce)):
		return fmt.Errorf("a nonce is %d to %d letters, digits and signs without spaces (RFC 9711, section 4.1)",
			minNonce, maxNonce)
	}
	return nil
}

// Expected is what whoever relies on a statement expects of it. What is "" is not looked at, but for the audience.
type Expected struct {
	Audience    string
	Issuer      string
	Nonce       string
	Device      string
	Least       string // the level that it must have at least
	Certificate string // the base64url SHA-256 of the certificate that the connection proved
	Now         time.Time
	Leeway      time.Duration // that clocks may differ by
}

// Read reads the claims of a token whose signature was checked. What is not a statement is refused.
func Read(payload []byte) (*Claims, error) {
	var c Claims
	if err := json.Unmarshal(payload, &c); err != nil {
		return nil, fmt.Errorf("the claims cannot be read: %w", err)
	}
	switch {
	case c.Profile != Profile:
		return nil, fmt.Errorf("the token is no statement: its profile is %.100q", c.Profile)
	case c.Standing == nil || c.Submods[submodule].Status == "":
		return nil, errors.New("the statement says nothing of the device's standing")
	case c.Expires == 0 || c.IssuedAt == 0 || c.Audience == "" || c.Subject == "":
		return nil, errors.New("the statement does not say for whom, of whom, from when or until when it is")
	case !slices.Contains(c.Standing.Ladder, c.Standing.Level):
		return nil, fmt.Errorf("the statement's level %.50q is not on its ladder", c.Standing.Level)
	}
	return &c, nil
}

// Check says why a statement is not one to rely on now; nil when it is.
func (c *Claims) Check(e Expected) error {
	from, until := time.Unix(c.IssuedAt, 0), time.Unix(c.Expires, 0)
	stamp := func(t time.Time) string { return t.UTC().Format(time.RFC3339) }
	switch {
	case e.Audience == "":
		return errors.New("say the audience that you are: a statement for somebody else proves nothing to you")
	case c.Audience != e.Audience:
		return fmt.Errorf("the statement is for %.200q, not for %q", c.Audience, e.Audience)
	case !e.Now.Before(until.Add(e.Leeway)):
		return fmt.Errorf("the statement ended at %s", stamp(until))
	case e.Now.Add(e.Leeway).Before(from):
		return fmt.Errorf("the statement begins at %s, which is to come: the clocks differ", stamp(from))
	case e.Issuer != "" && c.Issuer != e.Issuer:
		return fmt.Errorf("the statement is of %.200q, not of %q", c.Issuer, e.Issuer)
	case e.Nonce != "" && c.Nonce != e.Nonce:
		return errors.New("the statement has not the nonce that was given")
	case e.Device != "" && c.Subject != e.Device:
		return fmt.Errorf("the statement is about %.100q, not about %q", c.Subject, e.Device)
	case e.Certificate != "" && (c.Confirm == nil || c.Confirm.Certificate != e.Certificate):
		return errors.New("the statement is not of the key that the connection proved")
	}
	if e.Least == "" {
		return nil
	}
	least := slices.Index(c.Standing.Ladder, e.Least)
	switch {
	case least < 0:
		return fmt.Errorf("there is no level %.50q on the ladder %s", e.Least, strings.Join(c.Standing.Ladder, ", "))
	case slices.Index(c.Standing.Ladder, c.Standing.Level) < least:
		return fmt.Errorf("the device stands at %s, and %s is needed", c.Standing.Level, e.Least)
	}
	return nil
}
