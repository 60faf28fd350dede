// Package spelling tells how far two words are apart.
package spelling

// Distance returns how many letters have to be put in, taken out or replaced to make one word of
// another (V. I. Levenshtein, 1966), or most+1 if those are more than most.
func Distance(a, b []rune, most int) int {
	if max(len(a)-len(b), len(b)-len(a)) > most {
		return most + 1
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range a {
		corner := row[0] // of the row above, one to the left
		row[0] = i + 1
		for j := range b {
			change := corner
			if a[i] != b[j] {
				change++
			}
			corner = row[j+1]
			row[j+1] = min(change, corner+1, row[j]+1)
		}
	}
	return min(row[len(b)], most+1)
}
