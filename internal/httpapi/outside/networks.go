package outside

import (
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/internal/httpapi/edge"
)

// ListNetworks lists the networks that devices join.
func (r Routes) ListNetworks(*gin.Context) (api.List[api.Network], error) {
	return edge.All(r.service.Networks.Networks()), nil
}

// ListStays lists who is on which network.
func (r Routes) ListStays(c *gin.Context, p api.ListStaysParams) (*api.StayPage, error) {
	var err error
	if p.Limit, err = edge.Limit(c, p.Limit); err != nil {
		return nil, err
	}
	if p.Device != "" {
		p.Device = r.service.View.DeviceID(p.Device)
	}
	return r.service.Networks.Stays(p)
}

// ListNetworkClients lists access points.
func (r Routes) ListNetworkClients(*gin.Context) (*api.NetworkClientList, error) {
	return r.service.Networks.Clients(), nil
}

// AddNetworkClient lets an access point ask.
func (r Routes) AddNetworkClient(c *gin.Context, in api.NetworkClientDraft) (*api.NetworkClient, error) {
	return r.service.Networks.Add(c.Request.Context(), edge.Actor(c).Name, in)
}

// RemoveNetworkClient lets an access point ask no more.
func (r Routes) RemoveNetworkClient(c *gin.Context, id string, in api.Reason) (*api.NetworkClient, error) {
	return r.service.Networks.Remove(c.Request.Context(), edge.Actor(c).Name, id, in.Reason)
}
