package decision

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"strings"

	"ironledger.example/internal/bearer"
	"ironledger.example/internal/ids"
	"ironledger.example/internal/store"
)

// A ticket opens the page of one refusal: the id of the decision and a code
// that only this service can make, so that nobody finds another's by guessing.

const secretDocument = "secret"

// ticketSecret is kept with the records, so that tickets outlive a restart.
type ticketSecret struct {
	Key []byte `json:"key"`
}

// loadTicketKey reads the key of tickets, or makes it at the first start.
func (s *Service) loadTicketKey(ctx context.Context) error {
	const id = "tickets"
	kept, err := store.Documents[ticketSecret](ctx, s.Store, secretDocument)
	if err != nil {
		return err
	}
	if s.ticketKey = kept[id].Key; len(s.ticketKey) == sha256.Size {
		return nil
	}
	s.ticketKey = make([]byte, sha256.Size)
	rand.Read(s.ticketKey)
	var batch store.Batch
	if err := batch.PutDocument(secretDocument, id, ticketSecret{s.ticketKey}); err != nil {
		return err
	}
	return s.Store.Commit(&batch)
}

func (s *Service) ticketMAC(id string) []byte {
	mac := hmac.New(sha256.New, s.ticketKey)
	mac.Write([]byte(id))
	return mac.Sum(nil)[:16]
}

// Ticket makes the ticket of a decision.
func (s *Service) Ticket(id string) string {
	return id + "." + base64.RawURLEncoding.EncodeToString(s.ticketMAC(id))
}

// ByTicket reads the decision that a ticket is for.
func (s *Service) ByTicket(ctx context.Context, ticket string) (Recorded, error) {
	id, code, _ := strings.Cut(ticket, ".")
	got, err := base64.RawURLEncoding.DecodeString(code)
	if err != nil || !ids.IsID(id) || !hmac.Equal(got, s.ticketMAC(id)) {
		return Recorded{}, store.ErrNotFound
	}
	return s.Decision(ctx, id)
}

// ErrEnforcerGone says that a ticket's enforcer may no longer ask for decisions.
var ErrEnforcerGone = errors.New("the enforcer that refused this has no token any more")

// Again decides the request of a recorded decision anew, in the name of the enforcer
// that asked, as far as it still may ask.
func (s *Service) Again(r *Recorded) (id string, refused *Answer, err error) {
	if _, may := s.Snapshot().Tokens.Live(s.Micros(), func(t *bearer.Token) bool {
		return t.Name == r.Actor && t.Role.May(bearer.MayDecide)
	}); !may {
		return "", nil, ErrEnforcerGone
	}
	return s.Permit(r.Actor, r.Asked)
}
