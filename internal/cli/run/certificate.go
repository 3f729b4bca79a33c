package run

import (
	"crypto/tls"
	"log/slog"
	"os"
	"sync"
	"time"
)

// reloaded is a certificate in files, which is read again when they change: nobody restarts the service for a new
// one.
type reloaded struct {
	cert, key string // paths
	log       *slog.Logger

	mu     sync.Mutex
	pair   *tls.Certificate
	looked time.Time
	stamp  string // of the files that were read last, or could not be
}

// lookAgain is how long the files are not looked at again.
const lookAgain = time.Second

func (r *reloaded) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now := time.Now(); now.Sub(r.looked) >= lookAgain {
		r.looked = now
		r.look()
	}
	return r.pair, nil
}

// take makes a pair that was just read the one that is shown.
func (r *reloaded) take(pair *tls.Certificate) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.pair, r.stamp, r.looked = pair, stampOf(r.cert)+stampOf(r.key), time.Now()
}

// look reads the files if they are others than before. While they do not fit, as between the writing of the one and
// of the other, what was read before goes on.
func (r *reloaded) look() {
	stamp := stampOf(r.cert) + stampOf(r.key)
	if stamp == r.stamp {
		return
	}
	pair, err := tls.LoadX509KeyPair(r.cert, r.key)
	if err == nil {
		if r.stamp != "" {
			r.log.Info("the certificate was read again", "file", r.cert, "until", pair.Leaf.NotAfter)
		}
		r.pair, r.stamp = &pair, stamp
		return
	}
	r.log.Warn("the changed certificate cannot be used; the one before goes on", "error", err)
	r.stamp = stamp
}

func stampOf(path string) string {
	info, err := os.Stat(path)
	if err != nil {
		return err.Error()
	}
	return info.ModTime().String() + info.Name()
}
