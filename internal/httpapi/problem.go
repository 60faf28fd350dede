package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"net/http"
	"strconv"
	"time"

	"idlebeacon/api"
	"idlebeacon/internal/admission"
	"idlebeacon/internal/core/invalid"
	"idlebeacon/internal/core/policy"
	"idlebeacon/internal/core/schema"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/fault"
	"idlebeacon/internal/importing"
	"idlebeacon/internal/service"
	"idlebeacon/internal/store"
)

func writeJSON(w http.ResponseWriter, status int, contentType string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	writeBody(w, status, contentType, body)
	return nil
}

func writeBody(w http.ResponseWriter, status int, contentType string, body []byte) {
	w.Header().Set("Content-Type", contentType)
	w.Header().Set("Content-Length", strconv.Itoa(len(body))) // or it would go out in chunks
	w.WriteHeader(status)
	_, _ = w.Write(body) // an error here means that the client has gone
}

const (
	plainJSON = "application/json"
	geoJSON   = "application/geo+json"
)

func problem(status int, field, detail string) api.Problem {
	return api.Problem{Title: http.StatusText(status), Status: status, Detail: detail, Field: field}
}

func send(w http.ResponseWriter, p api.Problem) {
	if err := writeJSON(w, p.Status, "application/problem+json", p); err != nil {
		http.Error(w, p.Detail, p.Status)
	}
}

func writeProblem(w http.ResponseWriter, status int, field, detail string) {
	send(w, problem(status, field, detail))
}

// problemOf tells what is wrong with a request, if that is up to its caller and not to the
// service.
func (h *server) problemOf(r *http.Request, err error) (p api.Problem, known bool) {
	var (
		wrong         *invalid.Error
		refused       *policy.DeniedError
		unseen        *policy.UnseenError
		missing       *fault.NotFoundError
		conflict      *fault.ConflictError
		changed       *fault.ChangedError
		unconditional *fault.UnconditionalError
		retry         *fault.RetryError
		later         *service.LaterError
		forgotten     *fault.ForgottenError
		misfit        *schema.Error
		many          *fault.TooManyError
		pruned        *fault.PrunedError
	)
	switch {
	case errors.As(err, &wrong):
		p = problem(http.StatusBadRequest, wrong.Field, wrong.Error())
		p.Want = wrong.Want
	case errors.As(err, &refused):
		p = problem(http.StatusForbidden, "", secret.Mask(refused.Error()))
		if refused.Guest() {
			p = problem(http.StatusUnauthorized, "", refused.Error())
		}
		p.Needs = string(refused.Needs)
	case errors.As(err, &unseen):
		missing = &fault.NotFoundError{What: "collection", ID: unseen.Collection}
		p = problem(http.StatusNotFound, "", notFound(r, missing))
	case errors.As(err, &missing):
		p = problem(http.StatusNotFound, "", notFound(r, missing))
	case errors.As(err, &conflict):
		p = problem(http.StatusConflict, "id", conflict.Error())
		if conflict.Reason != "" {
			p.Field = ""
		}
	case errors.As(err, &changed):
		p = problem(http.StatusPreconditionFailed, "", changed.Error())
		p = h.changedProblem(p, changed.Now, changed.Seen)
	case errors.As(err, &unconditional):
		p = problem(http.StatusPreconditionRequired, "", unconditional.Error())
	case errors.As(err, &forgotten):
		p = problem(http.StatusGone, "", forgotten.Error())
	case errors.As(err, &pruned):
		p = problem(http.StatusGone, "", pruned.Error())
	case errors.As(err, &later):
		p = h.laterProblem(later)
	case errors.As(err, &many):
		p = problem(http.StatusTooManyRequests, "", many.Error())
	case errors.As(err, &misfit):
		p = schemaProblem(err, misfit)
	case errors.As(err, &retry):
		p = problem(http.StatusUnprocessableEntity, "", retry.Error())
	default:
		return p, false
	}
	return p, true
}

// fail answers a request with what went wrong.
func (h *server) fail(w http.ResponseWriter, r *http.Request, err error) {
	var (
		several  *service.EditsError
		refused  *policy.DeniedError
		tooLarge *http.MaxBytesError
		busy     *admission.BusyError
		away     *fault.UnavailableError
		full     *fault.FullError
	)
	if errors.As(err, &several) {
		h.failEdits(w, r, several)
		return
	}
	if p, known := h.problemOf(r, err); known {
		if errors.As(err, &refused) {
			challengeFor(w, refused)
		}
		send(w, p)
		return
	}
	switch {
	case errors.As(err, &tooLarge):
		writeProblem(
			w,
			http.StatusRequestEntityTooLarge,
			"",
			"the body is too large: the most is "+byteCount(tooLarge.Limit),
		)
	case errors.Is(err, importing.ErrDismissed):
		writeProblem(w, http.StatusConflict, "", err.Error())
	case errors.Is(err, importing.ErrBusy):
		w.Header().Set("Retry-After", "30")
		writeProblem(w, http.StatusTooManyRequests, "", err.Error()+"; wait until one of them is over, or dismiss one")
	case errors.Is(err, fault.ErrClosing):
		unavailable(w, retryAfter, "the service is stopping; nothing was changed, try again in a while")
	case errors.Is(err, errSlow):
		writeProblem(
			w,
			http.StatusRequestTimeout,
			"",
			"the body did not arrive in time; send it again, without long pauses",
		)
	case r.Context().Err() != nil:
		// The client has gone, or has closed its side. An empty answer would look like a
		// success, so there is none.
		panic(http.ErrAbortHandler)
	case errors.As(err, &busy):
		unavailable(w, busy.RetryAfter, err.Error())
	case errors.As(err, &away):
		unavailable(w, retryAfter, away.Error())
	case errors.As(err, &full):
		writeProblem(w, http.StatusInsufficientStorage, "", full.Error())
	case errors.Is(err, store.ErrUnknownOutcome):
		h.trouble(r, err)
		unavailable(
			w,
			retryAfter,
			"the database did not say in time whether this was carried out; look before you try again",
		)
	default:
		h.failInDatabase(w, r, err)
	}
}

// notFound says that something is not there. A guest hears that of what it may not see, and of
// what is not there, in the same words.
func notFound(r *http.Request, missing *fault.NotFoundError) string {
	if missing.What == "collection" && actorOf(r).Kind == policy.Guest {
		return missing.Error() + ", or it takes a key to see it"
	}
	return missing.Error()
}

// retryAfter is when it makes sense to try again if nothing tells.
const retryAfter = 5 * time.Second

func unavailable(w http.ResponseWriter, after time.Duration, detail string) {
	w.Header().Set("Retry-After", strconv.Itoa(int(math.Ceil(after.Seconds()))))
	writeProblem(w, http.StatusServiceUnavailable, "", detail)
}

// trouble logs what the database did not do.
func (h *server) trouble(r *http.Request, err error) {
	h.options.Log.Warn("the database did not do its work", "method", r.Method, "path", r.URL.Path, "error", err)
}

// failInDatabase answers with what went wrong if the database, or a fault of the program,
// is the cause.
func (h *server) failInDatabase(w http.ResponseWriter, r *http.Request, err error) {
	switch store.TroubleOf(err) {
	case store.Unavailable:
		h.trouble(r, err)
		if errors.Is(err, context.DeadlineExceeded) {
			unavailable(w, retryAfter, "this could not be answered within "+answerTimeout.String()+
				": the database does not answer, or too much was asked for; nothing was changed, try again in a while")
			return
		}
		unavailable(
			w,
			retryAfter,
			"the database cannot be reached, or is busy for too long; nothing was changed, try again in a while",
		)
	case store.Full:
		h.trouble(r, err)
		writeProblem(
			w,
			http.StatusInsufficientStorage,
			"",
			(&fault.FullError{Where: "the database, or with temporary files,"}).Error(),
		)
	case store.Refused:
		writeProblem(w, http.StatusBadRequest, "", "the database does not take this: "+err.Error())
	default:
		h.options.Log.Error("request failed", "method", r.Method, "path", r.URL.Path, "error", err)
		writeProblem(w, http.StatusInternalServerError, "", "the service could not do this; its log has more")
	}
}
