package httpapi

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"time"

	"github.com/klauspost/compress/gzhttp"

	"idlebeacon/api"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/fleet"
)

// reportTimeout is how long reports may wait until they are kept.
const reportTimeout = 10 * time.Second

// report keeps positions of devices: one, an array of them, or lines as they come.
func (h *server) report(w http.ResponseWriter, r *http.Request) error {
	q := parseQuery(r, "group")
	if q.err != nil {
		return q.err
	}
	media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if media == "application/x-ndjson" || media == "application/jsonl" {
		return h.reportLines(w, r, q.text("group"))
	}
	body, release, err := h.receive(w, r, maxBody)
	if err != nil {
		return err
	}
	defer release()
	trimmed := bytes.TrimSpace(body)
	if len(trimmed) == 0 {
		return invalid.New("body", "is empty").Wanted("a report, or an array of reports")
	}
	if trimmed[0] != '[' {
		return h.reportOne(w, r, trimmed, q.text("group"))
	}
	var texts []json.RawMessage
	if err := decodeJSON(body, &texts, false); err != nil {
		return err
	}
	if len(texts) > fleet.MaxReports {
		return invalid.New("body", "has %d reports", len(texts)).Wanted("at most %d", fleet.MaxReports)
	}
	reports := make([]fleet.Reported, len(texts))
	for i, text := range texts {
		reports[i] = parseReport(text)
	}
	verdicts, err := h.keep(r.Context(), reports, q.text("group"))
	if err != nil {
		return err
	}
	out := api.ReportVerdicts{Verdicts: make([]api.ReportVerdict, len(verdicts))}
	for i := range verdicts {
		v := &verdicts[i]
		out.Verdicts[i] = describeVerdict(v)
		switch v.Status {
		case fleet.Kept:
			out.Kept++
		case fleet.Repeated:
			out.Repeated++
		default:
			out.Refused++
		}
	}
	return writeJSON(w, http.StatusOK, plainJSON, out)
}

func parseReport(text []byte) fleet.Reported {
	report, err := motion.ParseReport(text)
	return fleet.Reported{Report: report, Err: err}
}

// keep keeps reports, within reportTimeout.
func (h *server) keep(ctx context.Context, reports []fleet.Reported, group string) ([]fleet.Verdict, error) {
	ctx, cancel := context.WithTimeout(ctx, reportTimeout)
	defer cancel()
	return h.options.Fleet.Report(ctx, reports, group)
}

// reportOne keeps one position, or says what is wrong with it.
func (h *server) reportOne(w http.ResponseWriter, r *http.Request, text []byte, group string) error {
	reports := []fleet.Reported{parseReport(text)}
	verdicts, err := h.keep(r.Context(), reports, group)
	if err == nil {
		err = verdicts[0].Err
	}
	if err != nil {
		return err
	}
	return writeJSON(w, http.StatusOK, plainJSON, describeVerdict(&verdicts[0]))
}

func describeVerdict(v *fleet.Verdict) api.ReportVerdict {
	out := api.ReportVerdict{Device: v.Device, Status: string(v.Status), Late: v.Late, Jump: v.Jump}
	if v.Time != 0 {
		at := v.Time.Time()
		out.Timestamp = &at
	}
	if v.Err == nil {
		return out
	}
	out.Detail = v.Err.Error()
	var wrong *invalid.Error
	if errors.As(v.Err, &wrong) {
		out.Field = wrong.Field
	}
	return out
}

// reportLines keeps lines of JSON as they come, and answers each with a line once it is durable. A stream that
// brings more than can be written is read no faster.
func (h *server) reportLines(w http.ResponseWriter, r *http.Request, group string) error {
	if around, ok := w.(*gzhttp.GzipResponseWriter); ok { // which would keep some of it to look at
		w = around.Unwrap()
	}
	connection := http.NewResponseController(w)
	if err := connection.EnableFullDuplex(); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return err
	}
	w.Header().Set("Content-Type", "application/x-ndjson")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	if err := connection.Flush(); err != nil {
		return nil // the client has gone
	}
	out := json.NewEncoder(w)
	in := fleet.NewInflow(r.Context(), h.options.Fleet, group, func(told []fleet.Told[struct{}]) error {
		for i := range told {
			if err := out.Encode(describeVerdict(&told[i].Verdict)); err != nil {
				return err
			}
		}
		return connection.Flush()
	})
	defer in.Close()
	lines := bufio.NewReaderSize(r.Body, motion.MaxReport+1)
	for ended := false; !ended; {
		line, err := lines.ReadSlice('\n')
		ended = err != nil
		report := fleet.Reported{Err: invalid.New("", "a line is too long").
			Wanted("at most %d bytes; the stream ends here", motion.MaxReport)}
		text := bytes.TrimSpace(line)
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case len(text) == 0 || ended && !errors.Is(err, io.EOF):
			continue
		default:
			report = parseReport(text)
		}
		if err := in.Put(r.Context(), report, struct{}{}, false); err != nil || !h.still(r) {
			return nil
		}
	}
	in.Drain(r.Context())
	return nil
}
