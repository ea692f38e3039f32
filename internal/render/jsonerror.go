package render

import (
	"errors"
	"io"

	"trevak/internal/fault"
	"trevak/internal/write"
)

// problemJSON is what went wrong, and where.
type problemJSON struct {
	Kind    string       `json:"kind"`
	Message string       `json:"message"`
	Object  null[string] `json:"object"`
	Line    null[int64]  `json:"line"`
	Column  null[string] `json:"column"`
	Value   *string      `json:"value"`
	WayOut  null[string] `json:"way_out"`
}

func problemOf(e *fault.Error) *problemJSON {
	message := e.Reason
	if e.Cause != nil {
		message += ": " + e.Cause.Error()
	}
	return &problemJSON{e.Kind.String(), message, orNull(e.Object), orNull(e.Line), orNull(e.Column), e.Value, orNull(e.WayOut)}
}

// anyProblem tells of an error that need not be one of ours.
func anyProblem(err error) *problemJSON {
	var known *fault.Error
	if errors.As(err, &known) {
		return problemOf(known)
	}
	return &problemJSON{Kind: fault.Storage.String(), Message: err.Error()}
}

// ErrorJSON writes for programs why a command did not do what it was asked to.
func ErrorJSON(w io.Writer, err error, exitCode int) error {
	out := struct {
		problemJSON
		ExitCode    int          `json:"exit_code"`
		RecordsRead null[int64]  `json:"records_read"`
		RecordsBad  null[int64]  `json:"records_bad"`
		AllRecords  bool         `json:"all_records"`
		Reasons     []reasonJSON `json:"reasons"`
		Quarantine  null[string] `json:"quarantine"`
		Drift       []driftJSON  `json:"drift"`
	}{problemJSON: *anyProblem(err), ExitCode: exitCode, Reasons: []reasonJSON{}, Drift: []driftJSON{}}
	var drift *write.DriftError
	if errors.As(err, &drift) {
		out.Drift = driftsJSON(drift.Differences)
	}
	var refusal *write.Refusal
	if errors.As(err, &refusal) {
		out.RecordsRead, out.RecordsBad, out.AllRecords = orNull(refusal.Records), orNull(refusal.Bad), refusal.All
		out.Reasons, out.Quarantine = reasonsJSON(refusal.Groups), orNull(refusal.Quarantine)
	}
	return JSON(w, out)
}
