package mapping

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/go-json-experiment/json/jsontext"
)

// At reads the text or the number that stands at a JSON Pointer (RFC 6901) in a document;
// "" when nothing does, or null, false or a text that is empty. It holds no more of the document than one
// value. The error is for a document that is not JSON, and for another value.
func At(in io.Reader, where string) (string, error) {
	p, err := parsePointer(where)
	if err != nil {
		return "", err
	}
	d := jsontext.NewDecoder(in) // which is bounded
	for _, token := range p {
		switch kind := d.PeekKind(); kind {
		case '{':
		case jsontext.KindInvalid:
			_, err := d.ReadToken()
			return "", broken(d, err)
		default:
			return "", nil
		}
		switch err := descend(d, token); {
		case errors.Is(err, errNoMember):
			return "", nil
		case err != nil:
			return "", err
		}
	}
	raw, err := d.ReadValue()
	if err != nil {
		return "", broken(d, err)
	}
	switch raw.Kind() {
	case 'n', 'f':
		return "", nil
	case '"':
		var text string
		err := json.Unmarshal(raw, &text)
		return text, err
	case '0':
		return string(raw), nil
	}
	return "", fmt.Errorf("%s stands at %s where a text was expected", quoted(string(raw)), p)
}

// ListAt finds where the first list stands in a document, at its top or up to two objects deep, as
// a JSON Pointer; "" when the document is one, or there is none.
func ListAt(in io.Reader) string {
	d := jsontext.NewDecoder(in)
	var walk func(at pointer) pointer
	walk = func(at pointer) pointer {
		if len(at) > 2 || d.PeekKind() != '{' {
			_ = d.SkipValue() // what is no JSON ends the walk
			return nil
		}
		if _, err := d.ReadToken(); err != nil {
			return nil
		}
		for d.PeekKind() == '"' {
			name, err := d.ReadToken()
			if err != nil {
				return nil
			}
			next := append(at[:len(at):len(at)], name.String())
			if d.PeekKind() == '[' {
				return next
			}
			if found := walk(next); found != nil {
				return found
			}
		}
		_, _ = d.ReadToken() // the end of the object
		return nil
	}
	return walk(nil).String()
}

// CheckPointer finds what is wrong with a JSON Pointer.
func CheckPointer(text string) error {
	if len(text) == 0 || text[0] != '/' {
		return fmt.Errorf("%q is not a JSON Pointer (RFC 6901), as /next", text)
	}
	_, err := parsePointer(text)
	return err
}
