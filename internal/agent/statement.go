package agent

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Statement is how the device stands, signed by the service for an audience. When the service cannot be reached and
// no nonce is asked for, it is the one that was kept, if that has not ended; kept says so.
func (f *Folder) Statement(ctx context.Context, audience, nonce string, now time.Time) (token string, kept bool,
	err error) {
	_, c, err := f.known()
	if err != nil {
		return "", false, err
	}
	defer c.close()
	q := url.Values{"audience": {audience}}
	if nonce != "" {
		q.Set("nonce", nonce)
	}
	raw, err := c.do(ctx, http.MethodGet, "/statement?"+q.Encode(), nil, nil)
	sum := sha256.Sum256([]byte(audience))
	path := filepath.Join(statementsDir, hex.EncodeToString(sum[:8])+".jwt")
	if err == nil {
		token = strings.TrimSpace(string(raw))
		if nonce != "" {
			return token, false, nil
		}
		return token, false, errors.Join(os.MkdirAll(f.path(statementsDir), 0o700), f.write(path,
			[]byte(token+"\n"), 0o600))
	}
	var answer *AnswerError
	if nonce != "" || errors.As(err, &answer) && answer.Status < http.StatusInternalServerError {
		return "", false, err
	}
	old, readErr := os.ReadFile(f.path(path))
	if token = strings.TrimSpace(string(old)); readErr != nil || !now.Before(expires(token)) {
		return "", false, err
	}
	return token, true, nil
}

// expires is when a statement ends, as it says itself: whoever it is for checks that it is true.
func expires(token string) time.Time {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return time.Time{}
	}
	raw, err := base64.RawURLEncoding.DecodeString(parts[1])
	var claims struct {
		Expires int64 `json:"exp"`
	}
	if err != nil || json.Unmarshal(raw, &claims) != nil {
		return time.Time{}
	}
	return time.Unix(claims.Expires, 0)
}
