package cli

import (
	"os"

	"github.com/schollz/progressbar/v3"
	"golang.org/x/term"
)

// progress is a bar with a rate, on a terminal; elsewhere it is nothing.
type progress struct{ bar *progressbar.ProgressBar }

// walked begins a bar of so many steps, -1 for not known.
func (a *app) walked(steps int64, unit string) *progress {
	f, ok := a.err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return &progress{}
	}
	return &progress{progressbar.NewOptions64(steps, progressbar.OptionSetWriter(a.err),
		progressbar.OptionSetItsString(unit), progressbar.OptionShowIts(),
		progressbar.OptionShowCount(), progressbar.OptionSetDescription("verifying"),
		progressbar.OptionClearOnFinish(), progressbar.OptionThrottle(50_000_000))}
}

func (p *progress) add(n int64) {
	if p.bar != nil {
		_ = p.bar.Add64(n) // only a picture
	}
}

func (p *progress) of(steps int64) {
	if p.bar != nil {
		p.bar.ChangeMax64(steps)
	}
}

func (p *progress) done() {
	if p.bar != nil {
		_ = p.bar.Finish() // only a picture
	}
}
