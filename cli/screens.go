package cli

import (
	"context"
	"errors"
)

func (a *app) screens(ctx context.Context) error { return errors.New("not yet") }
