package evidence

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/value"
)

// siteCheck is what a program of the site's own did that a device ran for its report.
type siteCheck struct {
	failed string   // why it gave nothing, "" when it did
	gave   []string // attributes
}

// siteChecks are those of a report, by name.
type siteChecks map[string]siteCheck

// MaxSiteChecks bounds how many site checks a report tells of.
const MaxSiteChecks = 64

// maxCheckText bounds what is kept of why a check failed, in bytes.
const maxCheckText = 300

// CheckName is what the name of a site check looks like.
var CheckName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// read reads {"name": {"gave": ["attribute"]}, "other": {"failed": "why"}}.
func (s *siteChecks) read(raw json.RawMessage) error {
	if string(raw) == "null" {
		return nil
	}
	if raw[0] != '{' {
		return fmt.Errorf("checks is %s; an object of site checks was expected", kindOf(raw))
	}
	*s = siteChecks{}
	for name, v := range value.Members(raw) {
		at := "checks." + string(name)
		switch {
		case !CheckName.Match(name):
			return fmt.Errorf("checks: %.80q is no name of a site check: letters, digits, dots, dashes and "+
				"underscores", name)
		case len(*s) >= MaxSiteChecks:
			return fmt.Errorf("checks: there are more than %d", MaxSiteChecks)
		case v[0] != '{':
			return fmt.Errorf("%s is %s; an object with gave or failed was expected", at, kindOf(v))
		}
		var c siteCheck
		var err error
		for member, x := range value.Members(v) {
			switch string(member) {
			case "failed":
				c.failed, err = textOf(at+".failed", x)
			case "gave":
				if err = json.Unmarshal(x, &c.gave); err != nil {
					err = fmt.Errorf("%s.gave is not a list of attributes", at)
				}
			default:
				err = unknownMember(at+"."+string(member), at+".failed", at+".gave")
			}
			if err != nil {
				return err
			}
		}
		(*s)[string(name)] = c
	}
	return nil
}

// name has the refusals of a report say which site check they come of, one that failed among them.
func (s siteChecks) name(rep *Report) {
	for _, name := range slices.Sorted(maps.Keys(s)) {
		c := s[name]
		for i := range rep.Refused {
			if r := &rep.Refused[i]; slices.Contains(c.gave, r.Attribute) {
				r.Message = "the site check " + name + " gave it: " + r.Message
			}
		}
		if c.failed != "" {
			why := strings.ToValidUTF8(c.failed[:min(len(c.failed), maxCheckText)], "")
			rep.refuse("check "+name, "the site check gave nothing: "+why)
		}
	}
}
