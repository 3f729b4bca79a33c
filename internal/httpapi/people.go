package httpapi

import (
	"bytes"
	"io"
	"net/http"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/httpapi/edge"
)

// ListPeople lists the directory.
func (s *Server) ListPeople(_ *gin.Context, p api.ListPeopleParams) (*api.PeoplePage, error) {
	page := &api.PeoplePage{Items: []directory.Person{}}
	if err := edge.CheckMost(p.Limit); err != nil {
		return nil, err
	}
	for x := range s.service.Snapshot().People.Search(p.Q, p.Group) {
		page.Total++
		switch {
		case x.ID <= p.Cursor:
		case p.Limit == 0 || len(page.Items) < p.Limit:
			page.Items = append(page.Items, x)
		default:
			page.Next = page.Items[p.Limit-1].ID
		}
	}
	return page, nil
}

// ImportPeople adds people to the directory, or takes a list for the whole of it.
func (s *Server) ImportPeople(c *gin.Context, p api.ImportPeopleParams) (*api.ListIntake, error) {
	media, err := edge.MediaType(c, "application/json", "application/yaml", "text/csv")
	if err != nil {
		return nil, err
	}
	read := directory.ReadYAML
	if media == "text/csv" {
		read = directory.ReadCSV
	}
	people, refused, err := readList(c, read)
	if err != nil {
		return nil, err
	}
	if p.Whole && len(refused) > 0 {
		return nil, edge.NewProblem(http.StatusBadRequest,
			"line %d: %s; a list with lines that cannot be read is not taken for the whole directory",
			refused[0].Line, refused[0].Message)
	}
	in, err := s.service.Admin.ImportPeople(c.Request.Context(), actor(c).Name, people,
		admin.ListImport{Whole: p.Whole, DryRun: p.DryRun, AcceptImpact: p.AcceptImpact})
	return listed(in, refused, err)
}

// listed is what became of a list, with the lines of it that were refused.
func listed(in *api.ListIntake, refused []directory.Refusal, err error) (*api.ListIntake, error) {
	if err != nil {
		return nil, err
	}
	out := *in
	out.Refused = append([]directory.Refusal{}, refused...)
	return &out, nil
}

// readList reads the list that is the body of a request, with the lines of it that
// are refused.
func readList[T any](c *gin.Context, read func(io.Reader) ([]T, []directory.Refusal, error)) ([]T,
	[]directory.Refusal, error) {
	body, err := edge.ReadBody(c, edge.MaxPeople)
	if err != nil {
		return nil, nil, err
	}
	items, refused, err := read(bytes.NewReader(body))
	if err != nil {
		return nil, nil, edge.NewProblem(http.StatusBadRequest, "%s", err)
	}
	return items, refused, nil
}

// GetPerson tells of one person and their devices.
func (s *Server) GetPerson(c *gin.Context, id string) (*api.PersonPage, error) {
	return s.service.View.Person(id), nil
}

// RemovePerson takes a person out of the directory.
func (s *Server) RemovePerson(c *gin.Context, id string, in api.Removal) (*api.ListIntake, error) {
	got, err := s.service.Admin.RemovePerson(c.Request.Context(), actor(c).Name, id, in)
	return listed(got, nil, err)
}
