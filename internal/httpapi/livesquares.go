package httpapi

import (
	"context"
	"strconv"
	"time"

	"idlebeacon/internal/answers"
	"idlebeacon/internal/core/feature"
	"idlebeacon/internal/live"
)

// wantedSquares takes the squares of an answer in the place of the answer, for a stream that sends
// only those that have changed.
type wantedSquares struct {
	views [][]answers.Piece
	late  time.Duration // until some that may have changed are to be looked at again; 0 if there are none
	done  bool          // they make up the answer
}

type wantedSquaresKey struct{}

// squaresWanted returns what takes the squares of an answer, nil if the answer is wanted as it is.
func squaresWanted(ctx context.Context) *wantedSquares {
	c, _ := ctx.Value(wantedSquaresKey{}).(*wantedSquares)
	return c
}

// take takes the squares of one more view, and reports whether all so far are squares.
func (c *wantedSquares) take(pieces []answers.Piece, late time.Duration, done bool) bool {
	if c.views, c.done = append(c.views, pieces), done; c.late == 0 || late > 0 && late < c.late {
		c.late = late
	}
	return done
}

// squares sends those of a view that the listener has not, and notes that it has them.
func (s *stream) squares(v *live.View, c *wantedSquares) {
	had := v.Pieces
	v.Pieces = make(map[live.Square]uint64, len(had))
	var changed []changedSquare
	size := 0
	for part, pieces := range c.views {
		for i := range pieces {
			p := &pieces[i]
			square := live.Square{Part: uint32(part), Level: uint32(p.Cell.Level), X: p.Cell.X, Y: p.Cell.Y}
			v.Pieces[square] = p.Stamp
			if stamp, there := had[square]; !there || stamp != p.Stamp {
				changed = append(changed, changedSquare{square, p})
				size += p.Bytes() + squareAround
			}
		}
	}
	var gone []live.Square
	for square := range had {
		if _, there := v.Pieces[square]; !there {
			gone = append(gone, square)
		}
	}
	if len(changed) == 0 && len(gone) == 0 && had != nil {
		return
	}
	s.begin("squares", "")
	s.buffer.Grow(size + len(v.Name) + len(gone)*squareAround + squareAround)
	b := append(feature.AppendText(append(s.buffer.AvailableBuffer(), `{"name":`...), v.Name), `,"whole":`...)
	b = append(strconv.AppendBool(b, had == nil), `,"squares":{`...)
	for i, c := range changed {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(strconv.AppendInt(append(appendSquare(b, c.square), `:{"places":`...), int64(c.piece.Places), 10),
			`,"features":[`...)
		b = append(c.piece.Append(b), "]}"...)
	}
	b = append(b, '}')
	for i, square := range gone {
		if i == 0 {
			b = append(b, `,"gone":[`...)
		} else {
			b = append(b, ',')
		}
		b = appendSquare(b, square)
	}
	if len(gone) > 0 {
		b = append(b, ']')
	}
	s.buffer.Write(append(b, "}\n\n"...))
}

// A changedSquare is one that a listener has not as it is.
type changedSquare struct {
	square live.Square
	piece  *answers.Piece
}

// squareAround is about how many bytes stand around the markers of a square.
const squareAround = 64

// appendSquare appends the name of a square.
func appendSquare(dst []byte, s live.Square) []byte {
	dst = append(dst, '"')
	for i, n := range [...]uint32{s.Part, s.Level, s.X, s.Y} {
		if i > 0 {
			dst = append(dst, '/')
		}
		dst = strconv.AppendUint(dst, uint64(n), 10)
	}
	return append(dst, '"')
}
