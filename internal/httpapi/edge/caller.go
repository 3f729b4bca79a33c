package edge

import (
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/bearer"
)

const tokenKey = "token"

// Called keeps who calls.
func Called(c *gin.Context, t *bearer.Token) { c.Set(tokenKey, t) }

// Actor is the token of the caller; an empty one when there is none.
func Actor(c *gin.Context) *bearer.Token {
	t, _ := c.Get(tokenKey)
	if token, ok := t.(*bearer.Token); ok {
		return token
	}
	return &bearer.Token{}
}

// All is a list of everything there is.
func All[T any](items []T) api.List[T] {
	if items == nil {
		items = []T{}
	}
	return api.List[T]{Items: items}
}
