package api

import (
	"context"
	"fmt"
	"net/http"

	"oakbarrel/client"
	"oakbarrel/core/plan"
	"oakbarrel/service/alerts"
)

// AlertPath names an alert.
type AlertPath struct {
	Alert string `path:"alert" pattern:"^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$" doc:"the name of the alert"`
}

type alertsOutput struct{ Body []client.Alert }

// alerts lists the alerts; for who may read one cask alone those of that one.
func (a *API) alerts(ctx context.Context, _ *struct{}) (*alertsOutput, error) {
	cask, err := a.onlyCask(ctx)
	if err != nil {
		return nil, err
	}
	all, err := a.Alerts.Alerts(ctx, cask)
	return &alertsOutput{all}, a.refused(ctx, err)
}

// onlyCask returns the name of the only cask that the visitor may read, nil for every one.
func (a *API) onlyCask(ctx context.Context) (*string, error) {
	only := visitor(ctx).Cask
	if only == nil {
		return nil, nil
	}
	var name string
	if err := a.DB.WithContext(ctx).Table("casks").Where("id = ?", *only).Select("name").Scan(&name).Error; err != nil {
		return nil, a.unavailable(ctx, err)
	}
	return &name, nil
}

type putAlertInput struct {
	AlertPath
	Body client.PutAlert
}

type alertOutput struct{ Body client.Alert }

// putAlert makes or changes an alert.
func (a *API) putAlert(ctx context.Context, in *putAlertInput) (*alertOutput, error) {
	v, err := a.Alerts.Put(ctx, in.Alert, in.Body, visitor(ctx).Name)
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	detail := fmt.Sprintf("%s, number %d", in.Alert, v.Number)
	if v.Off {
		detail += ", off"
	}
	a.record(ctx, "change alert", detail)
	return &alertOutput{v}, nil
}

// removeAlert removes an alert.
func (a *API) removeAlert(ctx context.Context, in *AlertPath) (*struct{}, error) {
	if err := a.Alerts.Remove(ctx, in.Alert); err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "remove alert", in.Alert)
	return nil, nil
}

type tryAlertInput struct{ Body client.TryAlert }

type triedAlertOutput struct{ Body client.TriedAlert }

// tryAlert tells when an alert would have told somebody, or what is wrong with it.
func (a *API) tryAlert(ctx context.Context, in *tryAlertInput) (*triedAlertOutput, error) {
	of, findings := plan.ParseAlert(in.Body.Name, in.Body.Name+".yaml", []byte(in.Body.Text))
	out := &triedAlertOutput{client.TriedAlert{Findings: findingsOf(findings), Told: []client.WouldBeTold{}}}
	if of == nil {
		return out, nil
	}
	asked := &Range{Cask: of.Cask}
	if of.When != nil {
		asked.Where = of.When.Text()
	}
	q, err := a.query(ctx, asked)
	if err != nil {
		return nil, err
	}
	a.noteReading(ctx, "try alert", asked)
	lacks := &lacking{}
	q.Missing = lacks.note
	tried, err := a.Alerts.Try(ctx, a.Search, q, of, in.Body.Days)
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	tried.Findings, tried.Missing = out.Body.Findings, lacks.names()
	out.Body = tried
	return out, nil
}

type noticesInput struct {
	State string `query:"state" pattern:"^[a-z,]{0,40}$" doc:"some of told, seen and done, with commas between them; all where it is missing"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

type noticesOutput struct{ Body []client.Notice }

// notices lists what alerts have told, the newest first.
func (a *API) notices(ctx context.Context, in *noticesInput) (*noticesOutput, error) {
	states, err := alerts.States(in.State)
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	all, err := a.Alerts.Notices(ctx, states, visitor(ctx).Cask, in.Limit)
	return &noticesOutput{all}, a.refused(ctx, err)
}

// NoticePath names a notice.
type NoticePath struct {
	Notice uint64 `path:"notice" minimum:"1"`
}

type noticeOutput struct{ Body client.Notice }

// notice tells of one.
func (a *API) notice(ctx context.Context, in *NoticePath) (*noticeOutput, error) {
	n, err := a.Alerts.Notice(ctx, in.Notice, visitor(ctx).Cask)
	return &noticeOutput{n}, a.refused(ctx, err)
}

type steerNoticeInput struct {
	NoticePath
	Body client.SteerNotice
}

// steerNotice does about a notice what somebody wants.
func (a *API) steerNotice(ctx context.Context, in *steerNoticeInput) (*noticeOutput, error) {
	n, err := a.Alerts.Steer(ctx, in.Notice, in.Body, visitor(ctx).Name)
	if err != nil {
		return nil, a.refused(ctx, err)
	}
	detail := fmt.Sprintf("%s notice %d of alert %s", in.Body.Do, n.ID, n.Alert)
	switch {
	case in.Body.Do == "mute" && in.Body.Minutes > 0:
		detail += fmt.Sprintf(", for %d minutes", in.Body.Minutes)
	case in.Body.Why != "":
		detail += ": " + in.Body.Why
	}
	a.record(ctx, "notice", detail)
	return &noticeOutput{n}, nil
}

type receiversOutput struct{ Body []client.Receiver }

// receivers lists where notices go.
func (a *API) receivers(ctx context.Context, _ *struct{}) (*receiversOutput, error) {
	all, err := a.Alerts.Receivers(ctx)
	return &receiversOutput{all}, a.refused(ctx, err)
}

// ReceiverPath names a receiver.
type ReceiverPath struct {
	Receiver string `path:"receiver" pattern:"^[A-Za-z0-9_-][A-Za-z0-9._-]{0,63}$" doc:"the name of the receiver"`
}

type putReceiverInput struct {
	ReceiverPath
	Body client.PutReceiver
}

// putReceiver makes a receiver, or puts another in its place.
func (a *API) putReceiver(ctx context.Context, in *putReceiverInput) (*struct{}, error) {
	if err := a.Alerts.PutReceiver(ctx, in.Receiver, in.Body, visitor(ctx).Name); err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "set receiver", in.Receiver+", "+in.Body.Kind)
	return nil, nil
}

// removeReceiver removes a receiver.
func (a *API) removeReceiver(ctx context.Context, in *ReceiverPath) (*struct{}, error) {
	if err := a.Alerts.RemoveReceiver(ctx, in.Receiver); err != nil {
		return nil, a.refused(ctx, err)
	}
	a.record(ctx, "remove receiver", in.Receiver)
	return nil, nil
}

// tryReceiver sends a receiver a notice that says it is a test.
func (a *API) tryReceiver(ctx context.Context, in *ReceiverPath) (*struct{}, error) {
	a.record(ctx, "try receiver", in.Receiver)
	if err := a.Carrier.Try(ctx, in.Receiver); err != nil {
		return nil, problem(http.StatusBadGateway, err.Error(), "see whether its address and what it takes are right: oakbarrel receiver list")
	}
	return nil, nil
}
