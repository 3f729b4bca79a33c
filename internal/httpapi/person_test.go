package httpapi

import (
	"encoding/base64"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/demo"
)

// A certificate in a header is one certificate in the form of RFC 9440, and
// nothing else.
func TestClientCertificatesInHeaders(t *testing.T) {
	pem := demo.Card("GF-L-1042", time.Now())
	body := strings.Join(strings.Split(strings.TrimSpace(pem), "\n")[1:], "")
	body = strings.TrimSuffix(body, "-----END CERTIFICATE-----")
	der, err := base64.StdEncoding.DecodeString(body)
	if err != nil {
		t.Fatal(err)
	}
	print, err := clientCert(":" + body + ":")
	if err != nil || print.Subject.CommonName == "" {
		t.Fatalf("%v, %v", print, err)
	}
	again, err := clientCert(":" + base64.StdEncoding.EncodeToString(der) + ":")
	if err != nil || !again.Equal(print) {
		t.Errorf("%v, %v", again, err)
	}
	for name, text := range map[string]string{
		"nothing": "", "no colons": body, "one colon": ":" + body, "PEM": pem,
		"two certificates": ":" + body + ":, :" + body + ":", "not base64": ":????:",
		"cut short": ":" + body[:len(body)-8] + ":",
		"something behind it": ":" + base64.StdEncoding.EncodeToString(append(slices.Clone(der), 1, 2, 3)) +
			":", "huge": ":" + strings.Repeat("A", 1<<17) + ":",
	} {
		if got, err := clientCert(text); err == nil {
			t.Errorf("%s is taken for the certificate %s", name, got.Subject)
		}
	}
}

// Nobody is sent to another site from a page of ours.
func TestWhereAPersonMayBeSent(t *testing.T) {
	for path, want := range map[string]string{
		"/payroll/": "/payroll/", "/payroll/?month=11&x=%2F": "/payroll/?month=11&x=%2F", "": "",
		"payroll": "", "//elsewhere.example": "", "https://elsewhere.example": "",
		"/\\elsewhere.example": "", "/a\r\nSet-Cookie: x": "", "/" + strings.Repeat("x", 3000): "",
		"javascript:alert(1)": "",
	} {
		if got := localPath(path); got != want {
			t.Errorf("%.40q leads to %q, want %q", path, got, want)
		}
	}
}
