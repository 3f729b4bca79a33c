package httpapi

import (
	"bytes"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/httpapi/edge"
)

// ListPeople lists the directory.
func (s *Server) ListPeople(c *gin.Context, p api.ListPeopleParams) {
	found := []directory.Person{}
	q := strings.ToLower(p.Q)
	for _, x := range s.service.Snapshot().People.List() {
		if (p.Group == "" || slices.Contains(x.Groups, p.Group)) &&
			strings.Contains(strings.ToLower(x.ID+"\n"+x.Name+"\n"+strings.Join(x.Groups, "\n")), q) {
			found = append(found, x)
		}
	}
	total := len(found)
	if p.Limit > 0 {
		found = found[:min(p.Limit, total)]
	}
	c.JSON(http.StatusOK, gin.H{"items": found, "total": total})
}

// ImportPeople adds people to the directory, or takes a list for the whole of it.
func (s *Server) ImportPeople(c *gin.Context, p api.ImportPeopleParams) {
	media, err := edge.MediaType(c, "application/json", "application/yaml", "text/csv")
	if err != nil {
		s.fail(c, err)
		return
	}
	read := directory.ReadYAML
	if media == "text/csv" {
		read = directory.ReadCSV
	}
	people, refused, err := readList(c, read)
	if err != nil {
		s.fail(c, err)
		return
	}
	if p.Whole && len(refused) > 0 {
		s.fail(c, edge.NewProblem(http.StatusBadRequest,
			"line %d: %s; a list with lines that cannot be read is not taken for the whole directory",
			refused[0].Line, refused[0].Message))
		return
	}
	in, err := s.service.Admin.ImportPeople(c.Request.Context(), actor(c).Name, people,
		admin.ListImport{Whole: p.Whole, DryRun: p.DryRun, AcceptImpact: p.AcceptImpact})
	s.answer(c, http.StatusOK, listIntake{in, refused}, err)
}

// listIntake is what became of a list, with the lines of it that were refused.
type listIntake struct {
	admin.ListIntake
	Refused []directory.Refusal `json:"refused"`
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
func (s *Server) GetPerson(c *gin.Context, id string) {
	c.JSON(http.StatusOK, s.service.View.Person(id))
}

// RemovePerson takes a person out of the directory.
func (s *Server) RemovePerson(c *gin.Context, id string) {
	s.remove(c, id, s.service.Admin.RemovePerson)
}
