package shell

import (
	"fmt"
	"os"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"
)

// progress is a bar with a rate, on a terminal; elsewhere it is nothing.
type progress struct{ bar *progressbar.ProgressBar }

// Walked begins a bar of so many steps, -1 for not known.
func (a *App) Walked(steps int64, unit, doing string) *progress {
	f, ok := a.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return &progress{}
	}
	return &progress{progressbar.NewOptions64(steps, progressbar.OptionSetWriter(a.Err),
		progressbar.OptionSetItsString(unit), progressbar.OptionShowIts(),
		progressbar.OptionShowCount(), progressbar.OptionSetDescription(doing),
		progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(50_000_000))}
}

// Progress shows how far something is, in place of what it showed before; on a terminal alone.
func (a *App) Progress(text string) {
	if f, ok := a.Err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.Err, "\r\x1b[K%s", text)
	}
}

// Add counts n more.
func (p *progress) Add(n int64) {
	if p.bar != nil {
		_ = p.bar.Add64(n) // only a picture
	}
}

// Of says how many there are altogether.
func (p *progress) Of(steps int64) {
	if p.bar != nil {
		p.bar.ChangeMax64(steps)
	}
}

// Done ends the line of progress.
func (p *progress) Done() {
	if p.bar != nil {
		_ = p.bar.Finish() // only a picture
	}
}
