package api

import (
	"encoding/json"
	"fmt"
)

// Density is the places of a collection in a viewport as cells to shade: squares of the Web Mercator
// map of the world, which has 2 to the power of Level of them in a row.
type Density struct {
	Level   int        `json:"level"`
	Says    string     `json:"says"`    // what the number of a cell is called
	Colours []string   `json:"colours"` // of the classes, #rrggbb, the lightest first
	Breaks  []float64  `json:"breaks"`  // between the classes; a class begins at its break
	Range   [2]float64 `json:"range"`   // the numbers of the lightest and the darkest shade
	Cells   []Cell     `json:"cells"`
	Matched int        `json:"matched"` // places in the box
}

// Cell is a cell of a Density. In JSON it is an array of its five numbers.
type Cell struct {
	X, Y   uint32 // its column from the west and its row from the north, from 0
	Class  int    // from 0
	Number float64
	Count  int // places
}

// MarshalJSON writes a cell.
func (c Cell) MarshalJSON() ([]byte, error) {
	return json.Marshal([5]any{c.X, c.Y, c.Class, c.Number, c.Count})
}

// UnmarshalJSON reads a cell.
func (c *Cell) UnmarshalJSON(raw []byte) error {
	var numbers []json.Number
	if err := json.Unmarshal(raw, &numbers); err != nil {
		return err
	}
	if len(numbers) != 5 {
		return fmt.Errorf("a cell has %d numbers; want 5", len(numbers))
	}
	for i, to := range []any{&c.X, &c.Y, &c.Class, &c.Number, &c.Count} {
		if err := json.Unmarshal([]byte(numbers[i]), to); err != nil {
			return err
		}
	}
	return nil
}

// Total is what the numbers that places have as a property come to. Without any, only Count
// means something.
type Total struct {
	Count    int     `json:"count"` // places with a number
	Sum      float64 `json:"sum"`   // the nearest to the exact one
	Mean     float64 `json:"mean"`
	Least    float64 `json:"least"`
	Greatest float64 `json:"greatest"`
}
