package kept

import "slices"

// The states of a stream (SSF 1.0, section 8.1.2).
const (
	StreamEnabled  = "enabled"
	StreamPaused   = "paused"   // events are held
	StreamDisabled = "disabled" // events are not told, then or later
)

// Stream is a connection on which a receiver hears of changes of standing.
type Stream struct {
	ID       string `json:"id"`
	Receiver string `json:"receiver"` // the name of its token
	// Endpoint is where events are sent (RFC 8935); "" when they are fetched (RFC 8936).
	Endpoint string `json:"endpoint,omitempty"`
	// Form is one of the rulebook's forms of telling, "" for the first of them.
	Form string `json:"form,omitempty"`
	// Binary has a CloudEvent's attributes sent as headers, beside its data.
	Binary bool `json:"binary,omitempty"`
	// Secrets sign what is sent to a web hook, the newest first.
	Secrets []StreamSecret `json:"secrets,omitempty"`
	// Authorization is what is sent along, sealed; empty for nothing.
	Authorization []byte `json:"authorization,omitempty"`
	// Requested are event types, as the receiver wrote them; nil for all it may have.
	Requested   []string `json:"requested"`
	Description string   `json:"description,omitempty"`
	Status      string   `json:"status"`
	Reason      string   `json:"reason,omitempty"` // of the status
	// By is who set the status: the receiver may not undo what an administrator or the
	// service did.
	By string `json:"by,omitempty"`
	// Chosen says that only the subjects in Subjects are told of; else all but those.
	Chosen    bool     `json:"chosen,omitempty"`
	Subjects  []string `json:"subjects,omitempty"` // as "device d-1" or "person maren", sorted
	CreatedAt int64    `json:"created_at"`         // in microseconds since the Unix epoch
	CreatedBy string   `json:"created_by"`
	// From is the newest entry when it was created: it hears of what came after.
	From int64 `json:"from"`
}

// StreamSecret is what events are signed with, sealed.
type StreamSecret struct {
	Sealed []byte `json:"sealed"`
	Until  int64  `json:"until,omitempty"` // in microseconds since the Unix epoch; 0 for as long as there is no newer
}

// Signs reports whether a secret signs at a moment.
func (s *StreamSecret) Signs(now int64) bool { return s.Until == 0 || s.Until > now }

// Letter is an event that a receiver could not be told: it was refused too often, or for
// too long. It is kept until somebody sends it again or drops it.
type Letter struct {
	Stream   string `json:"stream"`
	JTI      string `json:"jti"`
	Seq      int64  `json:"seq"` // of the entry that the event is made of
	Event    string `json:"event"`
	Device   string `json:"device,omitempty"`
	Person   string `json:"person,omitempty"`
	At       int64  `json:"at"`    // when it happened, in microseconds since the Unix epoch
	Since    int64  `json:"since"` // when it was given up
	Attempts int    `json:"attempts"`
	Why      string `json:"why"`
}

// Hears reports whether the stream is told of a device, or of a person.
func (s *Stream) Hears(device, person string) bool {
	named := func(what string) bool { _, ok := slices.BinarySearch(s.Subjects, what); return ok }
	return (device != "" && named("device "+device) || person != "" && named("person "+person)) == s.Chosen
}

// StreamPlace is how far a stream has come: all that it is told of the entries up to one
// has been acknowledged.
type StreamPlace struct {
	Seq int64 `json:"seq"`
}
