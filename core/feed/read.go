package feed

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"

	"ironledger.example/core/mapping"
	"ironledger.example/core/yamltext"
)

// Read reads the settings of a feed, YAML or JSON. It looks at the form alone: see [Settings.Check].
func Read(text string) (s Settings, err error) {
	if len(text) > 2*mapping.MaxSize {
		return s, fmt.Errorf("the feed is larger than %d bytes", 2*mapping.MaxSize)
	}
	if line := yamltext.TooDeep(text); line > 0 {
		return s, fmt.Errorf("line %d: brackets or lists are nested more than %d deep", line, yamltext.MaxNest)
	}
	defer func() {
		if bad := recover(); bad != nil { // the YAML reader lost its way in hostile text
			s, err = Settings{}, errors.New("this is not readable as YAML")
		}
	}()
	raw, err := yaml.YAMLToJSON([]byte(text))
	if err != nil {
		return s, err
	}
	d := json.NewDecoder(bytes.NewReader(raw))
	d.DisallowUnknownFields()
	if err := d.Decode(&s); err != nil {
		return Settings{}, errors.New(strings.TrimPrefix(err.Error(), "json: "))
	}
	return s, nil
}
