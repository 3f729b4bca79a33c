// Package identity answers HTTP for certificates of devices: enrolment over secure transport (RFC 7030, RFC 8951),
// and what others ask about the
// certificates of our own authority (RFC 5280, RFC 6960).
package identity

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/asn1"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/smallstep/pkcs7"

	core "ironledger.example/core/authority"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/statement"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/service"
	stating "ironledger.example/internal/statement"
	"ironledger.example/internal/store"
)

// Routes answers for a service.
type Routes struct {
	service *service.Service
	log     *slog.Logger
	refuse  func(*gin.Context, error) // as the API does (RFC 9457)
	wrong   *edge.Budgets             // by address: codes that are none
	asking  *edge.Slots               // by address
	idle    *edge.Budgets             // by address: questions about what was never issued
}

// New answers for a service; refuse answers with an error where it is not EST that is spoken.
func New(s *service.Service, log *slog.Logger, refuse func(*gin.Context, error)) *Routes {
	return &Routes{s, log, refuse, edge.NewBudgets(edge.GuessRate, edge.GuessBurst),
		&edge.Slots{Most: edge.MaxTaking},
		edge.NewBudgets(edge.GuessRate, edge.GuessBurst)}
}

// Standing has others learn how certificates stand, and of the authority itself. No token is needed: certificates
// name these addresses to everybody.
func (r *Routes) Standing(on gin.IRoutes) {
	on.GET("/authority/:file", r.file)
	on.POST("/authority/ocsp", r.ocsp)
	on.GET("/authority/ocsp/*request", r.ocspInPath)
}

// Enrolment has devices get certificates. The connection must be TLS.
func (r *Routes) Enrolment(on gin.IRoutes) {
	on.POST("/api/v1/evidence", r.proved(r.report))
	on.GET("/statement", r.proved(r.statement))
	for _, base := range []string{"/.well-known/est", "/.well-known/est/:label"} {
		on.GET(base+"/cacerts", r.cacerts)
		on.GET(base+"/csrattrs", r.csrattrs)
		on.POST(base+"/simpleenroll", r.enrol)
		on.POST(base+"/simplereenroll", r.enrol)
		for _, not := range []string{"/serverkeygen", "/fullcmc"} {
			on.POST(base+not, func(c *gin.Context) {
				r.say(c, http.StatusNotImplemented, "a device makes its own key, and asks by a PKCS #10 request")
			})
		}
	}
}

// say answers an error as RFC 7030 has it (section 4.2.3): in plain text.
func (r *Routes) say(c *gin.Context, status int, format string, args ...any) {
	c.Header("Cache-Control", "no-store")
	c.String(status, format+"\n", args...)
	c.Abort()
}

func (r *Routes) fail(c *gin.Context, err error) {
	p := edge.ProblemOf(err)
	if p.Status >= 500 {
		r.log.Error("request failed", "path", c.Request.URL.Path, "status", p.Status, "error", err)
	}
	if p.RetryAfter > 0 {
		c.Header("Retry-After", strconv.Itoa(p.RetryAfter))
	}
	r.say(c, p.Status, "%s", p.Detail)
}

// body64 is a body in base64, in lines (RFC 8951, section 3.1).
func body64(c *gin.Context, status int, typ string, der []byte) {
	text := base64.StdEncoding.EncodeToString(der)
	var b strings.Builder
	for len(text) > 64 {
		b.WriteString(text[:64] + "\n")
		text = text[64:]
	}
	b.WriteString(text + "\n")
	c.Header("Content-Transfer-Encoding", "base64")
	c.Data(status, typ, []byte(b.String()))
}

const certsOnly = "application/pkcs7-mime; smime-type=certs-only"

// cacerts are the certificates of the authority (RFC 7030, section 4.1).
func (r *Routes) cacerts(c *gin.Context) {
	var der []byte
	for _, cert := range r.service.Authority.Trusted() {
		der = append(der, cert.Raw...)
	}
	if len(der) == 0 {
		r.say(c, http.StatusNotFound, "this service has no authority")
		return
	}
	p7, err := pkcs7.DegenerateCertificate(der)
	if err != nil {
		r.fail(c, err)
		return
	}
	body64(c, http.StatusOK, certsOnly, p7)
}

// What a request may be for (RFC 8951, section 4; RFC 5480, RFC 8410).
var (
	ecPublicKey = asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}
	curves      = map[core.Key]asn1.ObjectIdentifier{core.P256: {1, 2, 840, 10045, 3, 1, 7}, core.P384: {1, 3, 132, 0,
		34}}
	ed25519 = asn1.ObjectIdentifier{1, 3, 101, 112}
)

// csrattrs says which keys a request may be for (RFC 7030, section 4.5).
func (r *Routes) csrattrs(c *gin.Context) {
	p, err := r.profile(c.Param("label"))
	if err != nil {
		r.say(c, http.StatusNotFound, "%s", err)
		return
	}
	var attributes []asn1.RawValue
	var failed error
	add := func(v any) {
		der, err := asn1.Marshal(v)
		failed = errors.Join(failed, err)
		attributes = append(attributes, asn1.RawValue{FullBytes: der})
	}
	type attribute struct {
		ID     asn1.ObjectIdentifier
		Values []asn1.ObjectIdentifier `asn1:"set"`
	}
	var on []asn1.ObjectIdentifier
	for _, k := range p.Keys {
		if curve, ok := curves[k]; ok {
			on = append(on, curve)
		} else {
			add(ed25519)
		}
	}
	if len(on) > 0 {
		add(attribute{ecPublicKey, on})
	}
	der, err := asn1.Marshal(attributes)
	if failed = errors.Join(failed, err); failed != nil {
		r.fail(c, failed)
		return
	}
	body64(c, http.StatusOK, "application/csrattrs", der)
}

// profile is the one of a label, the first for "".
func (r *Routes) profile(label string) (*rulebook.Profile, error) {
	a := r.service.Snapshot().Book.Rulebook.Authority
	switch {
	case a == nil:
		return nil, errors.New("this service has no authority")
	case label == "":
		return &a.Profiles[0], nil
	case a.Profile(label) == nil:
		return nil, fmt.Errorf("there is no profile %.100s", label)
	}
	return a.Profile(label), nil
}

// enrol gives a certificate (RFC 7030, sections 4.2.1 and 4.2.2).
func (r *Routes) enrol(c *gin.Context) {
	from := edge.Address(c.Request)
	if c.Request.TLS == nil {
		r.say(c, http.StatusForbidden, "a certificate is asked for over TLS (RFC 7030, section 3.3)")
		return
	}
	if !r.asking.Take(from) {
		r.fail(c, edge.TooMany("more than %d requests come from this address at once", edge.MaxTaking))
		return
	}
	defer r.asking.Give(from)
	a := authority.Asking{Label: c.Param("label"), Bindings: bindings(c.Request.TLS)}
	if certs := c.Request.TLS.PeerCertificates; len(certs) > 0 {
		a.By = certs[0]
	}
	if user, password, ok := c.Request.BasicAuth(); ok {
		a.Name, a.Code = user, password
	}
	again := strings.HasSuffix(c.FullPath(), "/simplereenroll")
	if again {
		a.Code = "" // by the certificate alone
	}
	var err error
	if a.Request, err = request(c); err != nil {
		r.fail(c, err)
		return
	}
	g, err := r.service.Authority.Enrol(c.Request.Context(), a)
	if err != nil {
		r.notIssued(c, from, err)
		return
	}
	if a.By != nil && a.Code == "" {
		r.service.Authority.Used(c.Request.Context(), a.By, from)
	}
	p7, err := pkcs7.DegenerateCertificate(g.Certificate.Raw)
	if err != nil {
		r.fail(c, err)
		return
	}
	body64(c, http.StatusOK, certsOnly, p7)
}

// notIssued answers as RFC 7030, section 4.2.3, asks: by whom a certificate was asked for is
// not known, it is not decided yet, it is refused, or it cannot be made now.
func (r *Routes) notIssued(c *gin.Context, from string, err error) {
	var (
		unknown *authority.UnknownError
		refused *authority.RefusedError
		wait    *authority.WaitError
		trouble *store.TroubleError
	)
	switch {
	case errors.As(err, &unknown):
		if !r.wrong.Allow(from, time.Now()) {
			r.fail(c, edge.TooMany("too many attempts came from this address; try again in a while"))
			return
		}
		r.log.Info("a certificate was asked for by nobody who is known", "from", from, "why", unknown.Message)
		c.Header("WWW-Authenticate", `Basic realm="device enrolment", charset="UTF-8"`)
		r.say(c, http.StatusUnauthorized, "%s", unknown.Message)
	case errors.As(err, &wait):
		c.Header("Retry-After", strconv.Itoa(int(math.Ceil(wait.After.Seconds()))))
		r.say(c, http.StatusAccepted, "%s", wait.Message)
	case errors.As(err, &refused):
		r.say(c, http.StatusForbidden, "%s", refused.Message)
	case errors.As(err, &trouble):
		r.fail(c, err)
	default:
		r.log.Error("a certificate cannot be issued", "error", err)
		c.Header("Retry-After", "60")
		r.say(c, http.StatusServiceUnavailable, "no certificate can be issued now: %s", err)
	}
}

// bindings are what a request may be bound to that comes on a connection: its first Finished message (tls-unique, RFC
// 5929), or what is exported from its keys (tls-exporter, RFC 9266), in base64. There are none of a connection whose
// keys could be another's too.
func bindings(c *tls.ConnectionState) (out []string) {
	if c == nil {
		return nil
	}
	if len(c.TLSUnique) > 0 && c.Version < tls.VersionTLS13 {
		out = append(out, base64.StdEncoding.EncodeToString(c.TLSUnique))
	}
	if raw, err := c.ExportKeyingMaterial("EXPORTER-Channel-Binding", nil, 32); err == nil {
		out = append(out, base64.StdEncoding.EncodeToString(raw))
	}
	return out
}

// proved has a handler answer the device whose certificate the connection proved.
func (r *Routes) proved(answer func(c *gin.Context, cert *x509.Certificate, from string) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		from := edge.Address(c.Request)
		if c.Request.TLS == nil || len(c.Request.TLS.PeerCertificates) == 0 {
			r.refuse(c, edge.NewProblem(http.StatusUnauthorized, "a device asks here with its certificate"))
			return
		}
		if !r.asking.Take(from) {
			r.refuse(c, edge.TooMany("more than %d requests come from this address at once", edge.MaxTaking))
			return
		}
		defer r.asking.Give(from)
		cert := c.Request.TLS.PeerCertificates[0]
		err := answer(c, cert, from)
		var unproven *intake.UnprovenError
		if errors.As(err, &unproven) {
			err = edge.NewProblem(http.StatusUnauthorized, "%s", unproven.Message)
			if !r.wrong.Allow(from, time.Now()) {
				err = edge.TooMany("too many attempts came from this address; try again in a while")
			}
		}
		if err != nil {
			r.refuse(c, err)
		}
	}
}

// report takes the report of the device that the connection proved.
func (r *Routes) report(c *gin.Context, cert *x509.Certificate, from string) error {
	body, err := edge.JSONBody(c)
	if err != nil {
		return err
	}
	t, err := r.service.Intake.Own(c.Request.Context(), cert, body)
	if err != nil {
		return err
	}
	if t.Error != "" {
		return edge.NewProblem(http.StatusUnprocessableEntity, "%s", t.Error)
	}
	r.service.Authority.Used(c.Request.Context(), cert, from)
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusOK, r.service.View.Own(t.Device, cert, t.Refused, edge.Language(c)))
	return nil
}

// statement states how the device stands that the connection proved.
func (r *Routes) statement(c *gin.Context, cert *x509.Certificate, from string) error {
	m, err := r.service.Statement.Make(c.Request.Context(), stating.Asking{Audience: c.Query("audience"),
		Nonce: c.Query("nonce"), By: cert})
	if err != nil {
		return err
	}
	r.service.Authority.Used(c.Request.Context(), cert, from)
	c.Header("Cache-Control", "no-store")
	c.Data(http.StatusOK, statement.MediaType, []byte(m.Token))
	return nil
}

// request reads a request in base64 (RFC 8951, section 3.1).
func request(c *gin.Context) ([]byte, error) {
	if typ, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type")); typ != "application/pkcs10" {
		return nil, edge.NewProblem(http.StatusUnsupportedMediaType,
			"the body must be application/pkcs10, not %.100q",
			typ)
	}
	raw, err := edge.ReadBody(c, 2*core.MaxRequest)
	if err != nil {
		return nil, err
	}
	text := strings.Map(func(x rune) rune {
		if x == '\r' || x == '\n' || x == ' ' || x == '\t' {
			return -1
		}
		return x
	}, string(raw))
	der, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, edge.NewProblem(http.StatusBadRequest, "the request is not base64 of DER (RFC 8951, section 3.1)")
	}
	return der, nil
}

// file gives the certificate of an authority, ID.cer, or its revocation list, ID.crl (RFC 5280, section 4.2.1.13).
func (r *Routes) file(c *gin.Context) {
	name := c.Param("file")
	id, kind, _ := strings.Cut(name, ".")
	var der []byte
	var err error
	typ := "application/pkix-cert"
	switch kind {
	case "cer":
		der, err = r.service.Authority.Certificate(id)
	case "crl":
		typ = "application/pkix-crl"
		der, err = r.service.Authority.CRL(id)
	default:
		err = edge.NewProblem(http.StatusNotFound, "there is no %.100s here", name)
	}
	if err != nil {
		r.fail(c, err)
		return
	}
	c.Header("Cache-Control", "public, max-age=60")
	c.Data(http.StatusOK, typ, der)
}

// maxQuestion bounds a question about certificates, in bytes.
const maxQuestion = 4 << 10

func (r *Routes) ocsp(c *gin.Context) {
	body, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxQuestion))
	if err != nil {
		r.fail(c, edge.BrokenBody(err))
		return
	}
	c.Data(http.StatusOK, "application/ocsp-response", r.answer(c, body))
}

// ocspInPath answers a question that stands in the address (RFC 6960, appendix A.1).
func (r *Routes) ocspInPath(c *gin.Context) {
	text := strings.TrimPrefix(c.Param("request"), "/")
	der, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(der) > maxQuestion {
		r.say(c, http.StatusBadRequest, "the question is not base64")
		return
	}
	c.Header("Cache-Control", "public, max-age=300")
	c.Data(http.StatusOK, "application/ocsp-response", r.answer(c, der))
}

func (r *Routes) answer(c *gin.Context, request []byte) []byte {
	return r.service.Authority.OCSP(request, func() bool { return r.idle.Allow(edge.Address(c.Request), time.Now()) })
}
