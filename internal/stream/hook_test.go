package stream

import (
	"errors"
	"net/http"
	"testing"
	"time"
)

// What a web hook answers.
func TestWhatAHookAnswers(t *testing.T) {
	now := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		code    int
		header  string
		took    bool
		refused bool // for good, if it goes on so
		after   time.Duration
	}{
		{200, "", true, false, 0}, {202, "", true, false, 0}, {204, "", true, false, 0},
		{400, "", false, true, 0}, {401, "", false, true, 0}, {404, "", false, true, 0}, {415, "", false, true, 0},
		{301, "", false, false, 0}, {408, "", false, false, 0}, {425, "", false, false, 0},
		{429, "7", false, false, 7 * time.Second}, {503, "3600000", false, false, longestAfter}, {500, "", false, false, 0},
		{410, "", false, false, 0},
	} {
		after, err := hookAnswered(&http.Response{StatusCode: c.code, Status: http.StatusText(c.code),
			Header: http.Header{"Retry-After": {c.header}}}, now)
		var refusal *RefusalError
		if (err == nil) != c.took || errors.As(err, &refusal) != c.refused || after != c.after ||
			errors.Is(err, errGone) != (c.code == 410) {
			t.Errorf("%d: %v after %v", c.code, err, after)
		}
	}
}
