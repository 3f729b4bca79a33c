package rulebook

import (
	"maps"
	"slices"

	"ironledger.example/core/certificate"
	"ironledger.example/core/evidence"
)

// SchemaURL is the stable name of the schema; the service serves it at its path.
const SchemaURL = "https://ironledger.example/schema/rulebook.json"

type schema = map[string]any

// Schema returns the JSON Schema (draft 2020-12) of one file of a rulebook, for
// editors. It tells the form; the meaning (levels, names in conditions,
// references) is checked by [Load].
func Schema() map[string]any {
	text := schema{"type": "string"}
	texts := schema{"type": "array", "items": text}
	id := schema{"type": "string", "pattern": idPattern.String(), "maxLength": 100}
	span := schema{"type": "string", "pattern": `^\d+[smhdw]$`, "description": "A duration, as 15m, 36h or 14d"}
	condition := schema{"type": []string{"string", "boolean"},
		"description": "A condition, as in: platform == macos and os.version >= 14.6"}
	level := schema{"type": "string", "description": "A level of the ladder"}
	mode := schema{"enum": modes, "default": string(Enforce),
		"description": "draft: ignored; shadow: worked out and recorded, without effect; enforce: counts"}
	table := func(of schema) schema { return schema{"type": "object", "additionalProperties": of} }
	list := func(of schema) schema { return schema{"type": "array", "items": of} }
	thing := func(required []string, properties schema) schema {
		return schema{"type": "object", "additionalProperties": false, "required": required,
			"properties": properties}
	}
	none := []string{}
	remedy := table(thing([]string{"title"},
		schema{"title": text, "steps": schema{"type": "string",
			"description": "Plain text; links as [text](https://…)"}}))
	checks := schema{"anyOf": []schema{condition,
		{"type": "object", "propertyNames": schema{"enum": evidence.Platforms()},
			"additionalProperties": condition}}}
	except := func(properties schema) schema { return thing(none, properties) }
	rule := thing([]string{"id", "check"}, schema{"id": id, "title": text, "check": checks, "cap": level,
		"unknown": level, "grace": span,
		"waivable": schema{"type": "boolean", "default": true,
			"description": "Whether a device may be excepted from it"}, "remedy": remedy})
	baseline := thing([]string{"id", "rules"},
		schema{"id": id, "title": text, "mode": mode, "applies": condition, "rules": list(rule)})
	gate := thing([]string{"id", "who", "what", "need"}, schema{
		"id": id, "number": schema{"type": "integer", "minimum": 1, "maximum": 1_000_000}, "title": text,
		"mode": mode,
		"who": thing(none, schema{"everyone": schema{"type": "boolean"}, "users": texts, "groups": texts,
			"except": except(schema{"users": texts, "groups": texts})}),
		"what": thing(none, schema{"everything": schema{"type": "boolean"}, "resources": texts, "tags": texts,
			"actions": texts, "except": except(schema{"resources": texts, "tags": texts})}),
		"when": condition, "need": condition,
		"otherwise": schema{"enum": []string{"deny", "step-up"}, "default": "deny"}, "message": table(text),
		"valid_for": span})
	properties := schema{
		"rulebook": id,
		"ladder": schema{"type": "array", "items": text, "minItems": 2,
			"default": []string{"barred", "unproven", "limited", "sound", "strong"}},
		"uncovered": level,
		"unmatched": schema{"enum": []string{"deny", "allow"}, "default": "deny"},
		"unknown_people": schema{"enum": []string{"deny", "gates"}, "default": "deny",
			"description": "What somebody whom the directory does not know is answered: a denial, or what the gates say"},
		"freshness": table(span),
		"threat_bands": schema{"type": "object",
			"propertyNames":        schema{"enum": evidence.ThreatLevel.Enum.Words},
			"additionalProperties": schema{"type": "integer", "minimum": 0, "maximum": 100}},
		"attributes": schema{"type": "object", "propertyNames": schema{"pattern": `^custom\.`},
			"additionalProperties": thing([]string{"type"},
				schema{"type": schema{"enum": customKinds}, "title": text, "values": texts,
					"ordered": schema{"type": "boolean"}})},
		"sources": list(thing([]string{"id", "provides"},
			schema{"id": id, "title": text, "rank": schema{"type": "integer"}, "provides": texts,
				"identifies": schema{"type": "boolean"}, "quiet_after": span})),
		"ignore_keys": schema{"type": "array", "items": text,
			"description": "Serials and hardware ids that firmware leaves unset"},
		"combine": table(schema{"enum": []string{"rank", "worst"}}),
		"issuers": list(thing([]string{"id", "file"},
			schema{"id": id, "title": text, "file": text, "crl": text,
				"binds": schema{"enum": certificate.Bindings}, "max_lifetime": span})),
		"waivers": thing(none, schema{"max": span}),
		"guard": thing(none, schema{"max_newly_denied": schema{"type": "string",
			"pattern": `^\d+(\.\d+)?%$`, "default": "20%"},
			"administrators": thing(none, schema{"users": texts, "groups": texts})}),
		"enrolment": thing(none, schema{"allow": condition,
			"otherwise": schema{"enum": []string{"hold", "refuse"}, "default": "hold"}}),
		"places":      table(thing(none, schema{"title": text, "networks": texts, "countries": texts})),
		"break_glass": texts,
		"resources":   list(thing([]string{"id"}, schema{"id": id, "title": text, "tags": texts, "url": text})),
		"signals": thing(none, schema{"compliant_from": level,
			"risk": thing(none, schema{"low_from": level, "medium_from": level}),
			"receivers": list(thing([]string{"id"}, schema{"id": id, "title": text, "compliant_from": level,
				"form":   schema{"enum": TellForms, "default": SetForm},
				"events": schema{"type": "array", "items": schema{"enum": SignalNames}},
				"when":   condition,
				"device": schema{"enum": DeviceForms, "default": DeviceForms[0]},
				"person": schema{"enum": PersonForms, "default": PersonForms[0]}}))}),
		"notices": list(thing([]string{"id", "on", "to"}, schema{"id": id, "on": schema{"enum": Occasions}, "when": condition,
			"before": span, "language": text,
			"to": schema{"anyOf": []schema{{"const": "owner"}, thing([]string{"mail"}, schema{"mail": text}),
				thing([]string{"hook"}, schema{"hook": id})}}})),
		"baselines": list(baseline),
		"gates":     list(gate),
		"examples": list(thing(none, schema{"title": text, "device": schema{"type": "object"}, "at": text,
			"user": text, "groups": texts, "known_person": schema{"type": "boolean", "default": true},
			"resource": text, "action": text,
			"ip": text, "country": text, "mfa": schema{"type": "boolean"}, "level": level,
			"outcome": schema{"enum": outcomes}})),
	}
	for _, name := range planned {
		properties[name] = schema{"description": "Not supported by this version unless it is empty"}
	}
	return schema{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "$id": SchemaURL,
		"title": "A rulebook of Iron Ledger",
		"type":  "object", "additionalProperties": false, "properties": properties,
	}
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
