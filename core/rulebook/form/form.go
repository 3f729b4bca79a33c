// Package form has the form of a rulebook as JSON Schema, for editors.
package form

import (
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/control"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/tree"
)

// SchemaURL is the stable name of the schema; the service serves it at its path.
const SchemaURL = "https://ironledger.example/schema/rulebook.json"

type schema = map[string]any

// Schema returns the JSON Schema (draft 2020-12) of one file of a rulebook, for
// editors. It tells the form; the meaning (levels, names in conditions,
// references) is checked by [rulebook.Load].
func Schema() map[string]any {
	properties := sections()
	for _, name := range rulebook.Planned {
		properties[name] = schema{"description": "Not supported by this version unless it is empty"}
	}
	return schema{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": SchemaURL,
		"title": "A rulebook of Iron Ledger",
		"type":  "object", "additionalProperties": false, "properties": properties,
	}
}

// The forms that come again and again.
var (
	textForm  = schema{"type": "string"}
	textsForm = listForm(textForm)
	idForm    = schema{"type": "string", "pattern": tree.IDPattern.String(), "maxLength": 100}
	spanForm  = schema{"type": "string", "pattern": `^\d+[smhdw]$`, "description": "A duration, as 15m, 36h or 14d"}
	condForm  = schema{"type": []string{"string", "boolean"},
		"description": "A condition, as in: platform == macos and os.version >= 14.6"}
	levelForm = schema{"type": "string", "description": "A level of the ladder"}
	modeForm  = schema{"enum": rulebook.Modes, "default": string(rulebook.Enforce),
		"description": "draft: ignored; shadow: worked out and recorded, without effect; enforce: counts"}
	none       = []string{}
	controlID  = schema{"type": "string", "pattern": control.ID.String()}
	servesForm = schema{"type": "array", "items": controlID, "description": "The controls that it serves"}
)

func tableForm(of schema) schema { return schema{"type": "object", "additionalProperties": of} }

func listForm(of schema) schema { return schema{"type": "array", "items": of} }

// thingForm is a mapping with known keys.
func thingForm(required []string, properties schema) schema {
	return schema{"type": "object", "additionalProperties": false, "required": required, "properties": properties}
}

// baselineForm is that of a baseline with its rules.
func baselineForm() schema {
	remedy := tableForm(thingForm([]string{"title"},
		schema{"title": textForm, "steps": schema{"type": "string",
			"description": "Plain text; links as [text](https://…)"}}))
	checks := schema{"anyOf": []schema{condForm,
		{"type": "object", "propertyNames": schema{"enum": evidence.Platforms()},
			"additionalProperties": condForm}}}
	rule := thingForm([]string{"id", "check"}, schema{"id": idForm, "title": textForm, "check": checks,
		"cap":     levelForm,
		"unknown": levelForm, "grace": spanForm,
		"waivable": schema{"type": "boolean", "default": true,
			"description": "Whether a device may be excepted from it"}, "remedy": remedy, "controls": servesForm})
	return thingForm([]string{"id", "rules"},
		schema{"id": idForm, "title": textForm, "mode": modeForm, "applies": condForm, "rules": listForm(rule),
			"controls": servesForm})
}

// gateForm is that of a gate.
func gateForm() schema {
	return thingForm([]string{"id", "who", "what", "need"}, schema{
		"id": idForm, "number": schema{"type": "integer", "minimum": 1, "maximum": 1_000_000}, "title": textForm,
		"mode": modeForm,
		"who": thingForm(none, schema{"everyone": schema{"type": "boolean"}, "users": textsForm, "groups": textsForm,
			"except": thingForm(none, schema{"users": textsForm, "groups": textsForm})}),
		"what": thingForm(none, schema{"everything": schema{"type": "boolean"}, "resources": textsForm,
			"tags":    textsForm,
			"actions": textsForm, "except": thingForm(none, schema{"resources": textsForm, "tags": textsForm})}),
		"when": condForm, "need": condForm,
		"otherwise": schema{"enum": []string{"deny", "step-up"}, "default": "deny"}, "message": tableForm(textForm),
		"valid_for": spanForm, "controls": servesForm})
}

// sections are the forms of the sections.
func sections() schema {
	return schema{
		"rulebook": idForm,
		"ladder": schema{"type": "array", "minItems": 2, "items": schema{"anyOf": []schema{textForm,
			thingForm([]string{"id"}, schema{"id": textForm, "was": textForm})}},
			"default": []string{"barred", "unproven", "limited", "sound", "strong"}},
		"uncovered": levelForm,
		"unmatched": schema{"enum": []string{"deny", "allow"}, "default": "deny"},
		"unknown_people": schema{"enum": []string{"deny", "gates"}, "default": "deny",
			"description": "What somebody whom the directory does not know is answered: a denial, or what the " +
				"gates say"},
		"freshness": tableForm(spanForm),
		"threat_bands": schema{"type": "object",
			"propertyNames":        schema{"enum": evidence.ThreatLevel.Enum.Words},
			"additionalProperties": schema{"type": "integer", "minimum": 0, "maximum": 100}},
		"attributes": schema{"type": "object", "propertyNames": schema{"pattern": `^custom\.`},
			"additionalProperties": thingForm([]string{"type"},
				schema{"type": schema{"enum": rulebook.AttributeKinds}, "title": textForm, "values": textsForm,
					"ordered": schema{"type": "boolean"}})},
		"sources": listForm(thingForm([]string{"id", "provides"},
			schema{"id": idForm, "title": textForm, "rank": schema{"type": "integer"}, "provides": textsForm,
				"identifies": schema{"type": "boolean"}, "quiet_after": spanForm,
				"vouches": thingForm([]string{"for"}, schema{"for": spanForm}), "signals": heardForm()})),
		"ignore_keys": schema{"type": "array", "items": textForm,
			"description": "Serials and hardware ids that firmware leaves unset"},
		"combine": tableForm(schema{"enum": []string{"rank", "worst"}}),
		"issuers": listForm(thingForm([]string{"id", "file"},
			schema{"id": idForm, "title": textForm, "file": textForm, "crl": textForm,
				"binds": schema{"enum": certificate.Bindings}, "max_lifetime": spanForm})),
		"authority": authorityForm(),
		"waivers": thingForm(none, schema{"max": spanForm, "helpdesk": spanForm,
			"approve": listForm(levelForm)}),
		"retention": thingForm(none, schema{"retired": spanForm}),
		"guard": thingForm(none, schema{"max_newly_denied": schema{"type": "string",
			"pattern": `^\d+(\.\d+)?%$`, "default": "20%"},
			"administrators": thingForm(none, schema{"users": textsForm, "groups": textsForm})}),
		"enrolment": thingForm(none, schema{"allow": condForm,
			"otherwise": schema{"enum": []string{"hold", "refuse"}, "default": "hold"}}),
		"places": tableForm(thingForm(none, schema{"title": textForm, "networks": textsForm,
			"countries": textsForm})),
		"break_glass": textsForm,
		"resources": listForm(thingForm([]string{"id"}, schema{"id": idForm, "title": textForm, "tags": textsForm,
			"url": textForm})),
		"signals":   signalsForm(),
		"notices":   noticesForm(),
		"controls":  controlsForm(),
		"reports":   reportsForm(),
		"baselines": listForm(baselineForm()),
		"gates":     listForm(gateForm()),
		"networks":  networksForm(),
		"examples":  examplesForm(),
	}
}

// heardForm is that of the signals of a source.
func heardForm() schema {
	event := schema{"anyOf": []schema{textForm, thingForm([]string{"sets"},
		schema{"sets": textForm, "words": tableForm(schema{"type": []string{"string", "boolean", "integer"}})})}}
	return thingForm([]string{"issuer", "jwks", "audience"}, schema{"issuer": textForm, "jwks": textForm,
		"audience": textForm, "device": schema{"enum": rulebook.HeardNames, "default": rulebook.HeardNames[0]},
		"map": thingForm(none, schema{rulebook.ComplianceSignal: event, rulebook.RiskSignal: event})})
}

// authorityForm is that of the section authority.
func authorityForm() schema {
	keys := schema{"enum": authority.Keys}
	return thingForm([]string{"name", "profiles"}, schema{"id": schema{"type": "string", "default": "house"},
		"title": textForm,
		"name":  textForm, "key": keys, "lifetime": spanForm,
		"profiles": listForm(thingForm([]string{"id"}, schema{"id": idForm, "title": textForm, "applies": condForm,
			"lifetime": spanForm, "renew_from": spanForm, "least": levelForm,
			"keys":      schema{"type": "array", "items": keys, "minItems": 1},
			"holds":     schema{"type": "integer", "minimum": 1, "maximum": rulebook.MaxHolds, "default": 2},
			"statement": spanForm}))})
}

// signalsForm is that of the section signals.
func signalsForm() schema {
	return thingForm(none, schema{"compliant_from": levelForm,
		"risk": thingForm(none, schema{"low_from": levelForm, "medium_from": levelForm}),
		"receivers": listForm(thingForm([]string{"id"}, schema{"id": idForm, "title": textForm,
			"compliant_from": levelForm,
			"form":           schema{"enum": rulebook.TellForms, "default": rulebook.SetForm},
			"events":         schema{"type": "array", "items": schema{"enum": rulebook.SignalNames}},
			"when":           condForm,
			"device":         schema{"enum": rulebook.DeviceForms, "default": rulebook.DeviceForms[0]},
			"person":         schema{"enum": rulebook.PersonForms, "default": rulebook.PersonForms[0]}}))})
}

// noticesForm is that of the section notices.
func noticesForm() schema {
	return listForm(thingForm([]string{"id", "on", "to"}, schema{"id": idForm,
		"on": schema{"enum": rulebook.Occasions}, "when": condForm,
		"before": spanForm, "language": textForm,
		"to": schema{"anyOf": []schema{{"const": "owner"}, thingForm([]string{"mail"}, schema{"mail": textForm}),
			thingForm([]string{"hook"}, schema{"hook": idForm})}}}))
}

// controlsForm is that of the controls that a rulebook answers to.
func controlsForm() schema {
	one := thingForm([]string{"id", "title"}, schema{"id": controlID, "title": textForm, "group": textForm,
		"text": textForm})
	return thingForm(none, schema{"title": textForm, "version": textForm, "list": listForm(one),
		"files": schema{"type": "array", "items": schema{"type": "string", "pattern": `catalog\.json$`},
			"description": "OSCAL catalogues in JSON, beside the rulebook"}})
}

// reportsForm is that of the reports that are made at the end of each period.
func reportsForm() schema {
	to := thingForm(none, schema{"mail": textForm, "hook": idForm})
	return listForm(thingForm([]string{"id", "every"}, schema{"id": idForm,
		"every":    schema{"enum": rulebook.Periods},
		"controls": schema{"anyOf": []schema{{"const": "all"}, listForm(controlID)}, "default": "all"},
		"to":       listForm(to)}))
}

// networksForm is that of the section networks.
func networksForm() schema {
	grant := thingForm([]string{"when"}, schema{"id": idForm, "when": condForm,
		"vlan":   schema{"type": []string{"string", "integer"}, "description": "Its number, 1 to 4094, or its name"},
		"filter": textForm, "session": schema{"type": "string", "pattern": spanForm["pattern"], "default": "1h",
			"description": "How long an admission lasts, 1m to 7d"},
		"recover": schema{"type": "boolean", "default": false,
			"description": "Whether it is a place to get well in, for devices that no grant before it is for"},
		"attributes": schema{"type": "object", "additionalProperties": schema{"type": []string{"string", "integer"}},
			"description": "Further attributes of RADIUS: " +
				strings.Join(slices.Sorted(maps.Keys(rulebook.RadiusAttributes)), ", ") + ", or VENDOR.TYPE by numbers"}})
	return listForm(thingForm([]string{"id", "grants"}, schema{"id": schema{"type": "string",
		"description": "The id of the resource that the network is"},
		"ssids":  schema{"type": "array", "items": schema{"type": "string", "minLength": 1, "maxLength": 32}},
		"person": schema{"enum": rulebook.PersonsOnNetworks, "default": rulebook.PersonsOnNetworks[0]},
		"grants": schema{"type": "array", "minItems": 1, "items": grant}, "otherwise": schema{"const": "reject"}}))
}

// examplesForm is that of the section examples.
func examplesForm() schema {
	yesNo := schema{"type": "boolean"}
	moment := schema{"type": "string", "description": "An RFC 3339 time, now, or a distance as -2h or +30d"}
	return listForm(thingForm(none, schema{"title": textForm, "device": schema{"type": "object"}, "at": textForm,
		"failing_for": tableForm(spanForm), "methods": textsForm, "auth_at": moment, "certificate": yesNo,
		"certificate_profile": textForm, "certificate_at": moment,
		"user": textForm, "groups": textsForm, "known_person": schema{"type": "boolean", "default": true},
		"resource": textForm, "action": textForm,
		"ip": textForm, "country": textForm, "mfa": yesNo, "level": levelForm,
		"outcome": schema{"enum": rulebook.Outcomes}, "grant": textForm,
		"proof": schema{"enum": rulebook.Proofs.Enum.Words}}))
}

// Keys lists the keys that a rulebook may have, at any depth, sorted.
func Keys() []string {
	seen := map[string]bool{}
	var walk func(any)
	walk = func(x any) {
		switch x := x.(type) {
		case schema:
			if properties, ok := x["properties"].(schema); ok {
				for name := range properties {
					seen[name] = true
				}
			}
			for _, v := range x {
				walk(v)
			}
		case []schema:
			for _, v := range x {
				walk(v)
			}
		}
	}
	walk(Schema())
	return slices.Sorted(maps.Keys(seen))
}
