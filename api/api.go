// Package api is the HTTP interface as its specification tells it: the models, and what
// each operation asks of its caller, are generated from openapi.yaml.
package api

import _ "embed"

//go:generate go run ./generate

// Spec is the specification, an OpenAPI 3.0 document in YAML.
//
//go:embed openapi.yaml
var Spec []byte

// List is a list, or a page of one.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`  // the cursor of the next page; "" for none
	Total int    `json:"total,omitempty"` // how many there are on all pages, where the service says
}

// List is the list itself.
func (l List[T]) List() List[T] { return l }

// List is the page without what it counts.
func (p DevicePage) List() List[DeviceSummary] { return List[DeviceSummary]{p.Items, p.Next, p.Total} }

// List is the page without what it counts.
func (p CertificatePage) List() List[Certificate] { return List[Certificate]{p.Items, p.Next, p.Total} }

// List is the page as a list.
func (p PeoplePage) List() List[Person] { return List[Person]{p.Items, "", p.Total} }

// List is the list in a page of stays.
func (p StayPage) List() List[Stay] { return List[Stay]{p.Items, p.Next, p.Total} }

// List is the list of access points.
func (p NetworkClientList) List() List[NetworkClient] {
	return List[NetworkClient]{p.Items, "", len(p.Items)}
}

// List is the list in a page of notices.
func (p NoticePage) List() List[Notice] { return List[Notice]{p.Items, p.Next, p.Total} }
