package api

import (
	"context"

	"oakbarrel/client"
)

type shelvesOutput struct{ Body []client.Shelf }

// shelves tells of the databases that the store is spread over.
func (a *API) shelves(ctx context.Context, _ *struct{}) (*shelvesOutput, error) {
	all, err := a.Shelves.List(ctx)
	if err != nil {
		return nil, a.unavailable(ctx, err)
	}
	out := &shelvesOutput{Body: []client.Shelf{}}
	for _, t := range all {
		out.Body = append(out.Body, client.Shelf{Name: t.Name, State: t.State, Feeds: t.Feeds, Bytes: t.Bytes, Size: t.Size})
	}
	return out, nil
}
