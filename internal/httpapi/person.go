package httpapi

import (
	"crypto/x509"
	"errors"
	"html/template"
	"io/fs"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/decision"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/httpapi/edge"
	"ironledger.example/internal/person"
	"ironledger.example/internal/state"
)

// The pages that a person meets need no sign-in of their own: a refusal is opened by the
// ticket in its address, the device by what the proxy says of the connection.

// personRoutes adds the pages.
func (s *Server) personRoutes(r *gin.Engine) {
	r.GET("/me/why/:ticket", s.why)
	r.POST("/me/why/:ticket/again", s.whyAgain)
	r.GET("/me/device", s.myDevice)
	r.POST("/me/device/enrol", s.enrolMine)
	r.POST("/me/device/reminders", s.remindMe)
	r.GET("/me/:file", s.personFile)
}

// personFile serves what the pages are drawn with.
func (s *Server) personFile(c *gin.Context) {
	c.Header("Cache-Control", "public, max-age=3600")
	switch name := c.Param("file"); name {
	case "style.css":
		c.Data(http.StatusOK, "text/css; charset=utf-8", person.Style)
	case "serif.woff2", "sans.woff2":
		pattern := map[string]string{"serif.woff2": "assets/literata-latin-wght-normal-*.woff2",
			"sans.woff2": "assets/source-sans-3-latin-wght-normal-*.woff2"}[name]
		if found, err := fs.Glob(s.console, pattern); err == nil && len(found) > 0 {
			http.ServeFileFS(c.Writer, c.Request, s.console, found[0])
			return
		}
		fallthrough
	default:
		s.fail(c, edge.NewProblem(http.StatusNotFound, "there is nothing at %s", c.Request.URL.Path))
	}
}

func (s *Server) render(c *gin.Context, status int, page *person.Page) {
	if err := page.Write(c.Writer, status); err != nil {
		s.fail(c, err)
	}
}

func (s *Server) gone(c *gin.Context) {
	w := person.Words(c.GetHeader("Accept-Language"))
	s.render(c, http.StatusNotFound, &person.Page{W: w, Title: w["gone"], Why: w["goneText"], NoObstacle: true})
}

// noTicket answers a ticket that is none, or of nothing on record.
func (s *Server) noTicket(c *gin.Context) {
	if err := s.guessed(c, "ticket"); err != nil {
		s.fail(c, err)
		return
	}
	s.gone(c)
}

// form makes ready to read a form, which must be short and of the plain kind.
func (s *Server) form(c *gin.Context) bool {
	if kind, _, err := mime.ParseMediaType(c.GetHeader("Content-Type")); err != nil &&
		c.Request.ContentLength != 0 || err == nil && kind != "application/x-www-form-urlencoded" {
		s.fail(c, edge.NewProblem(http.StatusUnsupportedMediaType,
			"a form is sent as application/x-www-form-urlencoded"))
		return false
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, maxForm)
	if err := c.Request.ParseForm(); err != nil {
		s.fail(c, edge.BrokenBody(err))
		return false
	}
	return true
}

// why explains a recorded refusal to the person it was for.
func (s *Server) why(c *gin.Context) {
	r, err := s.service.Decisions.ByTicket(c.Request.Context(), c.Param("ticket"))
	if err != nil {
		s.noTicket(c)
		return
	}
	page := s.whyPage(c, &r.Answer)
	page.Checked = c.Query("checked") != ""
	s.render(c, http.StatusOK, page)
}

// whyAgain decides the same request anew and shows the answer at once.
func (s *Server) whyAgain(c *gin.Context) {
	if err := s.origin.Check(c.Request); err != nil {
		s.fail(c, edge.NewProblem(http.StatusForbidden, "the request comes from another site"))
		return
	}
	if !s.form(c) {
		return
	}
	r, err := s.service.Decisions.ByTicket(c.Request.Context(), c.Param("ticket"))
	if err != nil {
		s.noTicket(c)
		return
	}
	if !s.tickets.Allow(c.Param("ticket"), time.Now()) {
		s.fail(c, edge.TooMany("this was checked again a moment ago; try again in a few seconds"))
		return
	}
	id, refused, err := s.service.Decisions.Again(&r)
	if errors.Is(err, decision.ErrEnforcerGone) {
		s.gone(c)
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	to := localPath(c.PostForm("to"))
	if refused == nil {
		w := person.Words(c.GetHeader("Accept-Language"))
		s.render(c, http.StatusOK, &person.Page{W: w, Title: w["allowed"], Outcome: string(access.Allow),
			Why: w["allowedText"], Facts: s.askedFacts(w, &r.Answer), To: s.goOn(&r.Answer, to), NoObstacle: true})
		return
	}
	address := "/me/why/" + s.service.Decisions.Ticket(id) + "?checked=1"
	if to != "" {
		address += "&to=" + template.URLQueryEscaper(to)
	}
	c.Redirect(http.StatusSeeOther, address)
}

// goOn is where a person goes on to: the path they came from, or the resource.
func (s *Server) goOn(a *decision.Answer, to string) string {
	if to != "" {
		return to
	}
	for _, r := range s.service.Snapshot().Book.Rulebook.Resources {
		if r.ID == a.Asked.Resource.ID &&
			(strings.HasPrefix(r.URL, "https://") || strings.HasPrefix(r.URL, "http://")) {
			return r.URL
		}
	}
	return ""
}

func (s *Server) askedFacts(w map[string]string, a *decision.Answer) [][2]string {
	title := a.Asked.Resource.ID
	for _, r := range s.service.Snapshot().Book.Rulebook.Resources {
		if r.ID == title && r.Title != "" {
			title = r.Title
		}
	}
	device := w["unknownDevice"]
	if a.Known {
		device = a.Device
		if d := s.service.View.Device(a.Device); d != nil && d.Name != "" {
			device = d.Name + " (" + d.ID + ")"
		}
	}
	at, _ := time.Parse(time.RFC3339, a.At)
	return [][2]string{{w["resource"], title}, {w["person"], a.Asked.Subject.ID}, {w["device"], device},
		{w["when"], at.Format("2006-01-02 15:04 MST")}}
}

func (s *Server) whyPage(c *gin.Context, a *decision.Answer) *person.Page {
	w := person.Words(c.GetHeader("Accept-Language"))
	edge.SpeakAnswer(c, a.Decision)
	p := &person.Page{W: w, Title: w["refused"], Outcome: string(a.Outcome), Facts: s.askedFacts(w, a),
		Code: a.Code, Ticket: c.Param("ticket"), To: localPath(c.Query("to")),
		Unknown: !a.Known && a.Outcome == access.Deny}
	p.Why, _ = plaintext.Language(a.ReasonUser, w["lang"])
	if a.Outcome == access.StepUp {
		p.Title, p.Why, p.SignIn = w["stepup"], w["stepupText"], s.goOn(a, p.To)
	}
	if a.Outcome == access.Allow {
		p.Title, p.Why, p.To = w["allowed"], w["allowedText"], s.goOn(a, p.To)
	}
	now := s.service.Now()
	for _, o := range a.Remedies {
		p.Obstacles = append(p.Obstacles, person.ObstacleOf(w, o.Title, o.Remedy, o.Why, now))
	}
	p.NoObstacle = len(p.Obstacles) == 0
	return p
}

// myDevice tells how the device of the connection stands.
func (s *Server) myDevice(c *gin.Context) {
	s.authorizeAs(c, bearer.MayDecide)
	if c.IsAborted() {
		return
	}
	w := person.Words(c.GetHeader("Accept-Language"))
	page := &person.Page{W: w, Title: w["myDevice"], NoObstacle: true}
	text, err := single(c, headerCert)
	cert, certErr := clientCert(text)
	if err != nil || certErr != nil {
		page.Why = w["nobody"]
		s.render(c, http.StatusOK, page)
		return
	}
	d := s.service.View.DeviceOf(cert)
	if d == nil {
		s.askToEnrol(c, w, "")
		return
	}
	if d.Outside != "" && d.Retired == "" {
		page.Title, page.Why = w["held"], w["heldText"]
		s.render(c, http.StatusOK, page)
		return
	}
	edge.SpeakDevice(c, d)
	page.Facts = [][2]string{{w["device"], strings.TrimSpace(d.Name + " (" + d.ID + ")")}}
	if user, err := single(c, headerUser); err == nil && user != "" {
		page.Facts = append(page.Facts, [2]string{w["person"], user})
		s.reminders(page, user)
	}
	if at, err := time.Parse(time.RFC3339, d.SeenAt); err == nil {
		page.Facts = append(page.Facts, [2]string{w["last"], person.Ago(w, s.service.Now().Sub(at).Microseconds())})
	}
	for i := range d.Top {
		page.Mark = append(page.Mark, i < d.Rank)
	}
	page.Level, page.Why = d.Level, w["fine"]
	now := s.service.Now()
	if d.Quarantine.Device != "" {
		page.Obstacles = append(page.Obstacles, person.ObstacleOf(w, posture.Quarantine, posture.QuarantineRemedy,
			nil, now))
		page.NoObstacle, page.Why = false, ""
	}
	for _, v := range d.Standing.Verdicts {
		if !v.Mend {
			continue
		}
		o := person.ObstacleOf(w, v.Title, v.Remedy, v.Why, now)
		if v.GraceUntil != "" {
			o.Until = w["grace"] + " " + strings.Replace(v.GraceUntil[:16], "T", " ", 1) + " UTC"
		}
		page.Obstacles = append(page.Obstacles, o)
		page.NoObstacle, page.Why = false, ""
	}
	s.render(c, http.StatusOK, page)
}

// reminders tells whether a person is reminded.
func (s *Server) reminders(page *person.Page, user string) {
	if _, known := s.service.Snapshot().People.Get(user); !known ||
		len(s.service.Snapshot().Book.Rulebook.Notices) == 0 {
		return
	}
	page.Reminders = "on"
	if m := s.service.Notices.Muted(user); m != nil {
		page.Reminders, page.Muted = "off", strings.Replace(m.Until[:16], "T", " ", 1)+" UTC"
	}
}

// remindMe has the person of the connection be reminded no more for a while, or again.
func (s *Server) remindMe(c *gin.Context) {
	s.authorizeAs(c, bearer.MayDecide)
	if c.IsAborted() {
		return
	}
	if err := s.origin.Check(c.Request); err != nil {
		s.fail(c, edge.NewProblem(http.StatusForbidden, "the request comes from another site"))
		return
	}
	if !s.form(c) {
		return
	}
	user, err := single(c, headerUser)
	if err == nil && user == "" {
		err = fault.Input("", "the proxy does not say who you are")
	}
	if err == nil && !s.tickets.Allow("remind "+user, time.Now()) {
		err = edge.TooMany("you changed this a moment ago; try again in a few seconds")
	}
	if err == nil {
		d := api.MuteDraft{Person: user, Reason: "asked for on the page of the device"}
		if c.PostForm("remind") == "yes" {
			d.For = "0s"
		}
		_, err = s.service.Notices.Mute(c.Request.Context(), actor(c).Name, d)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/me/device")
}

func (s *Server) askToEnrol(c *gin.Context, w map[string]string, wrong string) {
	s.render(c, http.StatusOK, &person.Page{W: w, Title: w["enrol"], NoObstacle: true, Enrol: true,
		Platforms: evidence.Platforms(), Wrong: wrong})
}

// enrolment is the resource that guards enrolling, when the rulebook lists it.
const enrolment = "device-desk"

// enrolMine asks for the device of the connection to be known. Where the
// rulebook lists the resource device-desk, its gates are asked first.
func (s *Server) enrolMine(c *gin.Context) {
	s.authorizeAs(c, bearer.MayDecide)
	if c.IsAborted() {
		return
	}
	if err := s.origin.Check(c.Request); err != nil {
		s.fail(c, edge.NewProblem(http.StatusForbidden, "the request comes from another site"))
		return
	}
	if !s.form(c) {
		return
	}
	w := person.Words(c.GetHeader("Accept-Language"))
	e, err := s.forwarded(c, enrolment, "enrol")
	if err != nil {
		s.refuseForward(c, err)
		return
	}
	if !s.tickets.Allow("enrol "+e.Subject.ID, time.Now()) {
		s.fail(c, edge.TooMany("you asked a moment ago; try again in a few seconds"))
		return
	}
	if !s.mayEnrol(c, e) {
		return
	}
	claims := state.Claims{Serial: strings.TrimSpace(c.PostForm("serial")),
		Platform: c.PostForm("platform"), Name: strings.TrimSpace(c.PostForm("name")), Owner: e.Subject.ID}
	var shown *x509.Certificate
	if text := c.GetHeader(headerCert); text != "" {
		if shown, err = clientCert(text); err != nil { // forwarded has read it
			s.refuseForward(c, err)
			return
		}
	}
	if claims.Serial == "" {
		s.askToEnrol(c, w, w["needSerial"])
		return
	}
	got, err := s.service.Admin.Enrol(c.Request.Context(), actor(c).Name, claims, shown)
	var wrong *fault.InputError
	switch {
	case errors.As(err, &wrong):
		s.askToEnrol(c, w, wrong.Message)
		return
	case err != nil:
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, enrolledPage(w, got))
}

// mayEnrol asks the gates of the resource "enrolment", where the rulebook has one. If not, the
// person was sent to the page that explains why.
func (s *Server) mayEnrol(c *gin.Context, e *access.Evaluation) bool {
	if !slices.ContainsFunc(s.service.Snapshot().Book.Rulebook.Resources,
		func(r rulebook.Resource) bool { return r.ID == enrolment }) {
		return true
	}
	id, refused, err := s.service.Decisions.Permit(actor(c).Name, e)
	if err != nil {
		s.fail(c, err)
		return false
	}
	if refused != nil {
		c.Redirect(http.StatusSeeOther, "/me/why/"+s.service.Decisions.Ticket(id)+"?to=/me/device")
	}
	return refused == nil
}

func enrolledPage(w map[string]string, got *state.Enrolment) *person.Page {
	page := &person.Page{W: w, NoObstacle: true}
	switch got.State {
	case state.Enrolled:
		page.Title, page.Why, page.Outcome = w["enrolled"], w["enrolledText"], string(access.Allow)
		page.Facts = [][2]string{{w["device"], got.Device}}
	case state.Held:
		page.Title, page.Why, page.Facts = w["held"], w["heldText"], [][2]string{{w["number"], got.ID}}
	default:
		page.Title, page.Why, page.Outcome = w["refusedEnrol"], w["refusedEnrolText"], string(access.Deny)
	}
	return page
}

// maxForm bounds what a person sends.
const maxForm = 16 << 10
