// Package service opens the records and puts the use cases together.
package service

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"strings"
	"time"

	"ironledger.example/internal/admin"
	"ironledger.example/internal/alert"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/controls"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/feed"
	"ironledger.example/internal/heard"
	"ironledger.example/internal/intake"
	"ironledger.example/internal/network"
	"ironledger.example/internal/news"
	"ironledger.example/internal/notice"
	"ironledger.example/internal/past"
	"ironledger.example/internal/sealed"
	"ironledger.example/internal/state"
	"ironledger.example/internal/statement"
	"ironledger.example/internal/stream"
	"ironledger.example/internal/upload"
	"ironledger.example/internal/view"
)

// Options are what a service is opened with.
type Options struct {
	Dir        string           // where the records are kept
	AdminToken string           // the first administrator's token, of a first start; "" to make one
	Log        *slog.Logger     // nil: slog.Default()
	Now        func() time.Time // nil: the machine's clock, kept from running back
	Origin     string           // the name of a new ledger; "" makes one up
	// NewKey and ResetClock are the reasons for going on with a new ledger key
	// in place of one that is lost, and for letting time go back; "" not to.
	NewKey, ResetClock string
	// NewAdmin is the reason for making another administrator's token, as when all
	// are lost; "" not to.
	NewAdmin string
	// KeepPast is how long the past of evidence is kept; 0 for audit.DefaultKeepPast.
	KeepPast time.Duration
	// Witness is shown each change that readers are about to see; nil for nobody.
	Witness func(*state.Change)
}

// Service is everything that can be asked of open records. Its methods are those of
// its parts.
type Service struct {
	*engine.Engine
	Intake    *intake.Service
	Decisions *decision.Service
	Admin     *admin.Service
	View      *view.Service
	Audit     *audit.Service
	Streams   *stream.Service
	Notices   *notice.Service
	Alerts    *alert.Service
	Feeds     *feed.Service
	Uploads   *upload.Service
	Heard     *heard.Service
	Authority *authority.Service
	Statement *statement.Service
	Networks  *network.Service
	Controls  *controls.Service

	// FirstToken is the administrator's token made at the first start, "" when
	// there was one already or it was given.
	FirstToken string
}

// Open reads the records and brings everything up to the present moment.
func Open(ctx context.Context, o Options) (*Service, error) {
	e, err := engine.Open(ctx, engine.Options{Dir: o.Dir, Log: o.Log, Now: o.Now, Origin: o.Origin,
		NewKey: o.NewKey, ResetClock: o.ResetClock, Witness: o.Witness})
	if err != nil {
		return nil, err
	}
	before := past.New(e)
	decisions, err := decision.New(ctx, e, before)
	if err != nil {
		return nil, e.GiveUp(ctx, err)
	}
	latest := news.Of(e)
	box, err := sealed.Open(filepath.Join(o.Dir, "secrets.key"))
	if err != nil {
		return nil, e.GiveUp(ctx, err)
	}
	streams, err := stream.New(e, latest, o.Dir, box)
	if err != nil {
		return nil, e.GiveUp(ctx, err)
	}
	s := &Service{Streams: streams, Engine: e, Intake: intake.New(e), Decisions: decisions, Admin: admin.New(e,
		decisions),
		View: view.New(e, before, decisions), Audit: audit.New(e, o.Dir, o.KeepPast)}
	s.Notices = notice.New(e, latest, s.View, decisions)
	s.Heard = heard.New(e)
	s.Authority = authority.New(e, o.Dir, box)
	s.Statement = statement.New(e, latest, streams)
	s.Feeds = feed.New(e, box, s.Intake, s.Admin, s.Heard)
	s.Uploads = upload.New(e, s.Intake)
	s.Networks = network.New(e, box, decisions)
	s.Controls = controls.New(e, before, audit.ArchiveFolder(o.Dir))
	s.Alerts = alert.New(e, o.Dir, s.View, streams, s.Feeds, s.Heard, s.Authority)
	e.Start(decisions.Companion())
	if s.FirstToken, err = s.Admin.FirstTokens(ctx, o.AdminToken, strings.TrimSpace(o.NewAdmin)); err != nil {
		return nil, errors.Join(err, e.Close())
	}
	e.Chore(s.Audit.Tidy)
	e.Chore(s.Audit.KeepingMentions)
	e.Chore(s.Admin.KeepingUses)
	e.Chore(s.Admin.Purging)
	return s, nil
}

// Close ends what is under way, and closes the records.
func (s *Service) Close() error {
	s.Networks.Stop()
	s.Controls.Stop()
	s.Feeds.Stop()
	s.Notices.Stop()
	s.Authority.Stop()
	s.Statement.Stop()
	if err := s.Admin.KeepUses(context.Background(), true); err != nil {
		s.Log.Warn("when tokens were last used is not kept", "error", err)
	}
	return errors.Join(s.Streams.Stop(context.Background()), s.Engine.Close())
}
