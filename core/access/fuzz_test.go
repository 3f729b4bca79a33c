package access

import "testing"

// What the protocol brings is read, or refused, whatever it is; what is read names
// who wants to do what with what.
func FuzzRequests(f *testing.F) {
	f.Add([]byte(`{"subject":{"type":"user","id":"maren"},"resource":{"type":"application","id":"till"},"action":{"name":"open"},"context":{"ip":"10.9.0.1","device":{"serial":"s"}}}`))
	f.Add([]byte(`{"subject":{"type":"user","id":"a"},"evaluations":[{"resource":{"type":"application","id":"x"}},{}],"options":{"evaluations_semantic":"deny_on_first_deny"}}`))
	f.Add([]byte(`{"subject":{"type":"user"},"action":{"name":"open"},"resource":{"type":"application","id":"x"},"page":{"token":"x"}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if e, err := ParseEvaluation(raw); err == nil &&
			(e.Subject.ID == "" || e.Resource.ID == "" || e.Action.Name == "") {
			t.Errorf("%q becomes %+v", raw, *e)
		}
		if b, err := ParseBatch(raw); err == nil && b == nil {
			t.Errorf("%q becomes nothing", raw)
		}
		for _, kind := range []SearchKind{SearchSubject, SearchResource, SearchAction} {
			if s, err := ParseSearch(kind, raw); err == nil && s == nil {
				t.Errorf("%q becomes nothing", raw)
			}
		}
	})
}
