package httpapi

import (
	"cmp"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"ironledger.example/core/access"
	"ironledger.example/core/certificate"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/httpapi/edge"
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
	s.authorizeAs(c, bearer.MayDecide)
	if c.IsAborted() {
		return
	}
	e, err := s.forwarded(c, "", "")
	if err != nil {
		s.refuseForward(c, err)
		return
	}
	id, refused, err := s.service.Decisions.Permit(actor(c).Name, e)
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
	page := "/me/why/" + s.service.Decisions.Ticket(id)
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
	s.fail(c, edge.NewProblem(http.StatusForbidden, "denied: %s", err))
}

// single returns a header that may stand once: of two, a proxy may have set one
// and its client the other.
func single(c *gin.Context, name string) (string, error) {
	switch all := c.Request.Header.Values(name); len(all) {
	case 0:
		return "", nil
	case 1:
		return all[0], nil
	}
	return "", fmt.Errorf("%s stands more than once, so that it is not clear which one counts", name)
}

// told are the headers of a proxy, each of which stands once at most.
type told map[string]string

func toldBy(c *gin.Context) (told, error) {
	t := told{}
	for _, name := range []string{headerUser, headerFor, headerProto, headerHost, headerURI, headerCert,
		headerResource, headerAction, headerMFA, headerCountry} {
		text, err := single(c, name)
		if err != nil {
			return nil, err
		}
		t[name] = text
	}
	return t, nil
}

// forwarded reads a proxy's headers as a request to do something with a resource;
// "" for the one that the address belongs to, and to open it.
func (s *Server) forwarded(c *gin.Context, resource, action string) (*access.Evaluation, error) {
	said, err := toldBy(c)
	if err != nil {
		return nil, err
	}
	e := &access.Evaluation{Subject: access.Entity{Type: "user", ID: said[headerUser]},
		Action:   access.Action{Name: cmp.Or(action, said[headerAction], "open")},
		Resource: access.Entity{Type: "resource", ID: cmp.Or(resource, said[headerResource])},
		Context:  &access.Context{Country: said[headerCountry]}}
	if e.Subject.ID == "" {
		return nil, fmt.Errorf("the proxy does not say who asks (%s)", headerUser)
	}
	// Also when the resource is told, an address that others read otherwise is
	// refused: what is judged must be what is served.
	path, err := plainPath(said[headerURI])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", headerURI, err)
	}
	if e.Resource.ID == "" {
		if e.Resource.ID, err = s.resourceAt(said, path); err != nil {
			return nil, err
		}
	}
	if list := said[headerFor]; list != "" {
		last := strings.TrimSpace(list[strings.LastIndexByte(list, ',')+1:])
		if _, err := netip.ParseAddr(last); err != nil {
			return nil, fmt.Errorf("%s: %.60q is not an IP address", headerFor, last)
		}
		e.Context.IP = last
	}
	switch mfa := said[headerMFA]; mfa {
	case "":
	case "true", "false":
		yes := mfa == "true"
		e.Context.Auth = &access.Auth{MFA: &yes}
	default:
		return nil, fmt.Errorf("%s is true or false, not %.60q", headerMFA, mfa)
	}
	if text := said[headerCert]; text != "" {
		cert, err := clientCert(text)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", headerCert, err)
		}
		e.Context.Device = s.service.Decisions.Certified(cert)
	}
	return e, e.Check()
}

// resourceAt finds the resource that an address belongs to.
func (s *Server) resourceAt(said told, path string) (string, error) {
	host := strings.ToLower(said[headerHost])
	if host == "" || strings.ContainsFunc(host,
		func(r rune) bool { return !strings.ContainsRune("abcdefghijklmnopqrstuvwxyz0123456789.-:[]", r) }) ||
		strings.HasSuffix(host, ".") {
		return "", fmt.Errorf("%s: %.60q is no plain name of a host", headerHost, said[headerHost])
	}
	proto := strings.ToLower(said[headerProto])
	host = strings.TrimSuffix(host, map[string]string{"https": ":443", "http": ":80"}[proto])
	address := proto + "://" + host + path
	id := decision.ResourceAt(s.service.Snapshot().Book, address)
	if id == "" {
		return "", fmt.Errorf("no resource of the rulebook has the address %.200s", address)
	}
	return id, nil
}

// plainPath returns the path of a request's target, if everybody reads it the
// same way: what comes behind the "?" is left out. Dot segments, empty segments,
// parameters (RFC 3986, section 3.3), backslashes, and escapes of what needs none
// or of what parts a path are refused, since an application may read them otherwise
// than whoever guards it.
func plainPath(target string) (string, error) {
	if target == "" {
		return "", nil
	}
	ambiguous := func(what string) (string, error) {
		return "", fmt.Errorf("the address %.200q is ambiguous: %s", target, what)
	}
	for i := range len(target) {
		if c := target[i]; c <= ' ' || c >= 0x7f {
			return ambiguous("it has a byte that must be escaped")
		}
	}
	path, _, _ := strings.Cut(target, "?")
	switch {
	case path == "" || path[0] != '/':
		return ambiguous("its path does not begin with a slash")
	case strings.Contains(path, "//"):
		return ambiguous("it has two slashes in a row")
	case strings.ContainsAny(path, "\\;#"):
		return ambiguous("it has a backslash, a parameter or a fragment")
	}
	for rest := path; ; {
		var found bool
		if _, rest, found = strings.Cut(rest, "%"); !found {
			break
		}
		raw, err := hex.DecodeString(rest[:min(2, len(rest))])
		if err != nil || len(raw) != 1 {
			return ambiguous("it has a broken escape")
		}
		if c := raw[0]; c <= 0x1f || c == 0x7f || unreserved(c) || strings.IndexByte("/\\%;?#", c) >= 0 {
			return ambiguous(fmt.Sprintf("it escapes %q", c))
		}
	}
	if text, err := url.PathUnescape(path); err != nil || !utf8.ValidString(text) {
		return ambiguous("it escapes what is no UTF-8")
	}
	for segment := range strings.SplitSeq(path, "/") {
		if segment == "." || segment == ".." {
			return ambiguous("it has dot segments")
		}
	}
	return path, nil
}

// unreserved reports whether a byte never needs an escape (RFC 3986, section 2.3).
func unreserved(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-._~", c) >= 0
}

// clientCert reads a certificate as RFC 9440 has it, DER in a byte sequence of
// RFC 8941 (:base64:).
func clientCert(text string) (*x509.Certificate, error) {
	inner, ok := strings.CutPrefix(text, ":")
	inner, closed := strings.CutSuffix(inner, ":")
	if !ok || !closed || len(inner) > 2*certificate.MaxSize {
		return nil, fmt.Errorf("expected one certificate as :base64: (RFC 9440)")
	}
	der, err := base64.StdEncoding.DecodeString(inner)
	if err != nil {
		return nil, fmt.Errorf("not base64: %w", err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, fmt.Errorf("not an X.509 certificate: %w", err)
	}
	return cert, nil
}

// localPath returns a path on the same site, or "" for anything else.
func localPath(text string) string {
	if !strings.HasPrefix(text, "/") || strings.HasPrefix(text, "//") ||
		strings.ContainsAny(text, "\\\r\n") || len(text) > 2000 {
		return ""
	}
	return text
}
