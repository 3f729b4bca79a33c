package authority

import (
	"bytes"
	"cmp"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"math/big"
	"slices"
	"time"

	"golang.org/x/crypto/ocsp"

	"ironledger.example/core/authority"
	"ironledger.example/core/condition"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
	"ironledger.example/internal/versioned"
)

// How long what is said of certificates counts for others. In our own decisions it counts at once.
const (
	listFor   = 24 * time.Hour
	listEach  = time.Hour // a list is made anew, at the latest
	answerFor = time.Hour
	// maxAnswers bounds the answers that are kept.
	maxAnswers = 200_000
)

// list is a revocation list, made at a moment.
type list struct {
	der     []byte
	at      time.Time
	issued  versioned.Map[string, kept.Certificate] // that it was made of
	orders  versioned.Map[string, kept.Quarantine]
	entries []x509.RevocationListEntry
	until   int64 // when it says something else by itself
}

// onHold is the reason of a certificate that may count again (RFC 5280, section 5.3.1).
const onHold = 6

// taken is when a certificate was taken back, or put on hold with its device, and why; 0 when it was not.
func taken(snap *state.Snapshot, x *kept.Certificate, now int64) (at int64, code int) {
	if x.RevokedAt != 0 {
		return x.RevokedAt, x.Code
	}
	if q := snap.Quarantines.Get(x.Device); q.Holds(now) {
		return q.At, onHold
	}
	return 0, 0
}

// places are where others learn of the certificates of an authority.
func (s *Service) places(id string) authority.Places {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.base == "" {
		return authority.Places{}
	}
	return authority.Places{CRL: s.base + "/authority/" + id + ".crl", OCSP: s.base + "/authority/ocsp",
		Issuer: s.base + "/authority/" + id + ".cer"}
}

// CRL is the revocation list of an authority (RFC 5280, section 5), in DER.
func (s *Service) CRL(id string) ([]byte, error) {
	snap, now := s.Snapshot(), s.Now()
	s.mu.Lock()
	l := s.lists[id]
	s.mu.Unlock()
	fresh := l != nil && now.Sub(l.at) < listEach
	if fresh && l.issued.Same(snap.Issued.Map) && l.orders.Same(snap.Quarantines.Map) && value.Micros(now) < l.until {
		return l.der, nil
	}
	a := snap.Authorities.Get(id)
	if a == nil || len(a.Certificate) == 0 {
		return nil, fault.NotFound("authority", id)
	}
	by, err := s.signer(a)
	if err != nil {
		return nil, err
	}
	var entries []x509.RevocationListEntry
	for _, x := range snap.Issued.All() {
		at, code := taken(snap, x, value.Micros(now))
		if x.Authority != id || at == 0 {
			continue
		}
		n, _ := new(big.Int).SetString(x.Serial, 16)
		entries = append(entries, x509.RevocationListEntry{SerialNumber: n, RevocationTime: moment(at),
			ReasonCode: code})
	}
	until := condition.Always // an order ends by itself
	for _, q := range snap.Quarantines.All() {
		if q.Holds(value.Micros(now)) {
			until = min(until, q.End())
		}
	}
	slices.SortFunc(entries, func(a, b x509.RevocationListEntry) int {
		return cmp.Or(a.RevocationTime.Compare(b.RevocationTime), a.SerialNumber.Cmp(b.SerialNumber))
	})
	if fresh && slices.EqualFunc(l.entries, entries, func(a, b x509.RevocationListEntry) bool {
		return a.SerialNumber.Cmp(b.SerialNumber) == 0 && a.RevocationTime.Equal(b.RevocationTime)
	}) {
		s.remember(id, &list{l.der, l.at, snap.Issued.Map, snap.Quarantines.Map, entries, until})
		return l.der, nil
	}
	der, err := x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(value.Micros(now)),
		ThisUpdate: now.UTC().Truncate(time.Second), NextUpdate: now.Add(listFor).UTC().Truncate(time.Second),
		RevokedCertificateEntries: entries}, by.cert, by.key)
	if err != nil {
		return nil, err
	}
	s.remember(id, &list{der, now, snap.Issued.Map, snap.Quarantines.Map, entries, until})
	return der, nil
}

func (s *Service) remember(id string, l *list) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lists[id] = l
}

func moment(micros int64) time.Time { return time.UnixMicro(micros).UTC().Truncate(time.Second) }

// question is a certificate that somebody asks about.
type question struct {
	authority, serial string
	hash              crypto.Hash
}

// answer is what was said of it.
type answer struct {
	der []byte
	at  time.Time
	of  *kept.Certificate // as it was then
	// held is whether its device was in quarantine.
	held bool
}

// OCSP answers a request about a certificate (RFC 6960), both in DER. The answer counts for an hour. Whoever asks
// about what was never issued is answered while allow says so, and so is whoever wants an answer of their own, with
// their nonce in it (RFC 8954); else they get the one that is kept.
func (s *Service) OCSP(request []byte, allow func() bool) []byte {
	r, err := ocsp.ParseRequest(request)
	if err != nil {
		return ocsp.MalformedRequestErrorResponse
	}
	nonce, err := authority.Nonce(request)
	if err != nil {
		return ocsp.MalformedRequestErrorResponse
	}
	snap := s.Snapshot()
	a := s.addressed(snap, r)
	if a == nil {
		return ocsp.UnauthorizedErrorResponse // RFC 6960, section 2.3: not authoritative for it
	}
	q := question{a.ID, r.SerialNumber.Text(16), r.HashAlgorithm}
	x, now := snap.Issued.Get(q.serial), s.Now()
	s.mu.Lock()
	known := s.answers[q]
	s.mu.Unlock()
	held := x != nil && snap.Quarantines.Get(x.Device).Holds(value.Micros(now))
	counts := known != nil && known.of == x && known.held == held && now.Sub(known.at) < answerFor/2
	if counts && (nonce == nil || !allow()) {
		return known.der
	}
	if x == nil && !allow() {
		return ocsp.TryLaterErrorResponse
	}
	by, err := s.signer(a)
	if err != nil {
		s.Log.Error("a question about a certificate is not answered", "error", err)
		return ocsp.InternalErrorErrorResponse
	}
	der, err := s.answerOf(snap, by, r, x, held, now)
	if err != nil {
		s.Log.Error("a question about a certificate is not answered", "error", err)
		return ocsp.InternalErrorErrorResponse
	}
	if x != nil { // of serials that nobody has there is no end
		s.mu.Lock()
		if len(s.answers) >= maxAnswers {
			clear(s.answers)
		}
		s.answers[q] = &answer{der, now, x, held}
		s.mu.Unlock()
	}
	if nonce == nil {
		return der
	}
	own, err := authority.Resign(der, nonce, by.key)
	if err != nil {
		s.Log.Error("a question about a certificate is answered without its nonce", "error", err)
		return der
	}
	return own
}

// answerOf is the signed answer about x, nil for a serial that nobody has: as by, one of our
// authorities, knows it.
func (s *Service) answerOf(snap *state.Snapshot, by *signer, r *ocsp.Request, x *kept.Certificate, held bool,
	now time.Time) ([]byte, error) {
	t := ocsp.Response{Status: ocsp.Unknown, SerialNumber: r.SerialNumber,
		ThisUpdate: now.UTC().Truncate(time.Second),
		NextUpdate: now.Add(answerFor).UTC().Truncate(time.Second), IssuerHash: r.HashAlgorithm}
	switch {
	case x == nil || x.Authority != by.id:
	case x.RevokedAt != 0 || held:
		at, code := taken(snap, x, value.Micros(now))
		t.Status, t.RevokedAt, t.RevocationReason = ocsp.Revoked, moment(at), code
	default:
		t.Status = ocsp.Good
	}
	return signedAnswer(by, t)
}

// signedAnswer signs an answer. The library signs with no key of Ed25519: there another signs what is signed again.
func signedAnswer(by *signer, t ocsp.Response) ([]byte, error) {
	if _, is := by.key.Public().(ed25519.PublicKey); !is {
		return ocsp.CreateResponse(by.cert, by.cert, t, by.key)
	}
	passing, err := authority.P256.Make(rand.Reader)
	if err != nil {
		return nil, err
	}
	der, err := ocsp.CreateResponse(by.cert, by.cert, t, passing)
	if err != nil {
		return nil, err
	}
	return authority.Resign(der, nil, by.key)
}

// called is what a request calls an authority: its name and its key, hashed.
type called struct {
	of   *kept.Authority
	hash crypto.Hash
}

// addressed is the authority that a request is about, nil for one that is not ours.
func (s *Service) addressed(snap *state.Snapshot, r *ocsp.Request) *kept.Authority {
	for _, a := range snap.Authorities.All() {
		if n := s.called(a, r.HashAlgorithm); n != nil && bytes.Equal(n.name, r.IssuerNameHash) &&
			bytes.Equal(n.key, r.IssuerKeyHash) {
			return a
		}
	}
	return nil
}

// hashes are those of an authority's name and key.
type hashes struct{ name, key []byte }

// called are the hashes of an authority, worked out once; nil for none.
func (s *Service) called(a *kept.Authority, h crypto.Hash) *hashes {
	k := called{a, h}
	s.mu.Lock()
	defer s.mu.Unlock()
	if n, is := s.names[k]; is {
		return n
	}
	if len(s.names) > 50 { // of authorities that are no more
		clear(s.names)
	}
	var n *hashes
	if cert, err := x509.ParseCertificate(a.Certificate); err == nil && hashed(h, nil) != nil {
		n = &hashes{hashed(h, cert.RawSubject), hashed(h, keyBits(cert))}
	}
	s.names[k] = n
	return n
}

func hashed(h crypto.Hash, b []byte) []byte {
	switch h {
	case crypto.SHA1: // what OCSP names certificates by; nothing rests on it
		sum := sha1.Sum(b)
		return sum[:]
	case crypto.SHA256:
		sum := sha256.Sum256(b)
		return sum[:]
	}
	return nil
}

// keyBits are the bits of a certificate's public key.
func keyBits(c *x509.Certificate) []byte {
	var info struct {
		Algorithm pkix.AlgorithmIdentifier
		Key       asn1.BitString
	}
	if _, err := asn1.Unmarshal(c.RawSubjectPublicKeyInfo, &info); err != nil {
		return nil
	}
	return info.Key.RightAlign()
}
