package httpapi

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/core/access"
	"ironledger.example/core/certificate"
	"ironledger.example/internal/service"
)

// The headers by which a reverse proxy tells what it is asked for. They are
// believed from a caller with the right to ask for decisions, and from nobody
// else; the proxy must overwrite what its own callers send under these names.
const (
	headerUser     = "X-Forwarded-User" // the person, as the proxy or its sign-in page established
	headerFor      = "X-Forwarded-For"  // the address of the client; of a list the last counts
	headerProto    = "X-Forwarded-Proto"
	headerHost     = "X-Forwarded-Host"
	headerURI      = "X-Forwarded-Uri"
	headerCert     = "Client-Cert"         // RFC 9440, section 2.2
	headerResource = "Ironledger-Resource" // in place of looking the address up
	headerAction   = "Ironledger-Action"   // "open" when not said
	headerMFA      = "Ironledger-Mfa"      // true or false
	headerCountry  = "Ironledger-Country"  // ISO 3166-1 alpha-2
	headerDecision = "Ironledger-Decision" // in the answer: the id of the decision
	headerOutcome  = "Ironledger-Outcome"  // in the answer: allow, deny or step-up
	headerPage     = "Ironledger-Page"     // in the answer: where the person finds out why
)

// forwardAuth answers a reverse proxy that asks about every request: 204 for
// allow, 401 for step-up, 403 for deny. What is malformed is denied: a proxy
// must never take a fault for a permission.
func (s *Server) forwardAuth(c *gin.Context) {
	s.authorizeAs(c, service.MayDecide)
	if c.IsAborted() {
		return
	}
	e, err := s.forwarded(c, c.GetHeader(headerResource), c.GetHeader(headerAction))
	if err != nil {
		s.refuseForward(c, err)
		return
	}
	id, refused, err := s.service.Permit(actor(c).Name, e)
	if err != nil {
		s.refuseForward(c, err)
		return
	}
	c.Header(headerDecision, id)
	c.Header("Cache-Control", "no-store")
	if refused == nil {
		c.Header(headerOutcome, string(access.Allow))
		c.Status(http.StatusNoContent)
		return
	}
	page := "/me/why/" + s.service.Ticket(id)
	if back := localPath(c.GetHeader(headerURI)); back != "" {
		page += "?to=" + url.QueryEscape(back)
	}
	c.Header(headerOutcome, string(refused.Outcome))
	c.Header(headerPage, page)
	if refused.Outcome == access.StepUp {
		c.Status(http.StatusUnauthorized)
		return
	}
	c.Status(http.StatusForbidden)
}

func (s *Server) refuseForward(c *gin.Context, err error) {
	s.log.Warn("forward-auth denied without a decision", "enforcer", actor(c).Name, "error", err)
	c.Header(headerOutcome, string(access.Deny))
	s.fail(c, newProblem(http.StatusForbidden, "denied: %s", err))
}

// forwarded reads a proxy's headers as a request to do something with a resource;
// "" for the one that the address belongs to, and to open it.
func (s *Server) forwarded(c *gin.Context, resource, action string) (*access.Evaluation, error) {
	e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: c.GetHeader(headerUser)}, Action: access.Action{Name: action}, Resource: access.Entity{Type: "resource", ID: resource}, Context: &access.Context{}}
	if e.Subject.ID == "" {
		return nil, fmt.Errorf("the proxy does not say who asks (%s)", headerUser)
	}
	if e.Action.Name == "" {
		e.Action.Name = "open"
	}
	if e.Resource.ID == "" {
		address := c.GetHeader(headerProto) + "://" + c.GetHeader(headerHost) + c.GetHeader(headerURI)
		if e.Resource.ID = s.service.Snapshot().Book.ResourceAt(address); e.Resource.ID == "" {
			return nil, fmt.Errorf("no resource of the rulebook has the address %.200s", address)
		}
	}
	if list := c.GetHeader(headerFor); list != "" {
		last := strings.TrimSpace(list[strings.LastIndexByte(list, ',')+1:])
		if _, err := netip.ParseAddr(last); err != nil {
			return nil, fmt.Errorf("%s: %.60q is not an IP address", headerFor, last)
		}
		e.Context.IP = last
	}
	switch mfa := c.GetHeader(headerMFA); mfa {
	case "":
	case "true", "false":
		yes := mfa == "true"
		e.Context.Auth = &access.Auth{MFA: &yes}
	default:
		return nil, fmt.Errorf("%s is true or false, not %.60q", headerMFA, mfa)
	}
	e.Context.Country = c.GetHeader(headerCountry)
	if text := c.GetHeader(headerCert); text != "" {
		print, err := clientCert(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", headerCert, err)
		}
		e.Context.Device = &access.DeviceRef{CertificateSHA256: print}
	}
	return e, e.Check()
}

// clientCert reads a certificate as RFC 9440 has it, DER in a byte sequence of
// RFC 8941 (:base64:), and returns its SHA-256 in hex.
func clientCert(text string) (string, error) {
	inner, ok := strings.CutPrefix(text, ":")
	inner, closed := strings.CutSuffix(inner, ":")
	if !ok || !closed || len(inner) > 2*certificate.MaxSize {
		return "", fmt.Errorf("expected one certificate as :base64: (RFC 9440)")
	}
	der, err := base64.StdEncoding.DecodeString(inner)
	if err != nil {
		return "", fmt.Errorf("not base64: %w", err)
	}
	if _, err := x509.ParseCertificate(der); err != nil {
		return "", fmt.Errorf("not an X.509 certificate: %w", err)
	}
	sum := sha256.Sum256(der)
	return hex.EncodeToString(sum[:]), nil
}

// localPath returns a path on the same site, or "" for anything else.
func localPath(text string) string {
	if !strings.HasPrefix(text, "/") || strings.HasPrefix(text, "//") || strings.ContainsAny(text, "\\\r\n") || len(text) > 2000 {
		return ""
	}
	return text
}
