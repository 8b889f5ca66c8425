package block

// A sheaf is the filters of several blocks turned on their side, so that what all of them
// tell of one word stands together. They have the same number of groups. A sheaf is kept in
// parts: part i of p has the groups i, i+p and so on, each of all blocks in their order.

const (
	mostSheafParts = 128
	mostInSheaf    = 64     // blocks
	sheafPart      = 16_000 // bytes of a part at most: it fits into a page of the database
)

// Groups returns how many groups a filter has; 0 where it cannot be bound into a sheaf, as it
// is of another version, or of no known size.
func (w Words) Groups() int {
	groups := len(w) / GroupSize
	if len(w) < 1+GroupSize || w[0] != WordsVersion || len(w) != 1+GroupSize*groups || mostGroups%groups != 0 {
		return 0
	}
	return groups
}

// Version returns with what version the groups of a filter are read.
func (w Words) Version() byte { return w[0] }

// SheafParts returns in how many parts a sheaf of filters with so many groups is kept: 1 or
// more, and a divisor of groups. What is told of a word is in the part hash>>32 modulo that,
// where it is the piece with the number hash>>32 / parts modulo groups / parts; a piece is
// as many groups as there are blocks.
func SheafParts(groups int) int { return min(mostSheafParts, groups&-groups) }

// SheafRoom returns how many filters with so many groups a sheaf takes, 1 or more.
func SheafRoom(groups int) int {
	return max(1, min(mostInSheaf, sheafPart*SheafParts(groups)/(GroupSize*groups)))
}

// Bind returns the parts of a sheaf of filters, which all have the same [Words.Groups].
func Bind(filters []Words) [][]byte {
	groups := filters[0].Groups()
	parts := make([][]byte, SheafParts(groups))
	for g := range groups {
		part := &parts[g%len(parts)]
		for _, w := range filters {
			*part = append(*part, w[1+GroupSize*g:][:GroupSize]...)
		}
	}
	return parts
}

// Unbind returns the filter of one block of a sheaf that has n of them, nil where the parts
// are not those of a sheaf.
func Unbind(parts [][]byte, version byte, n, block int) Words {
	if len(parts) == 0 || block < 0 || block >= n {
		return nil
	}
	pieces := len(parts[0]) / (GroupSize * n)
	w := append(make(Words, 0, 1+GroupSize*pieces*len(parts)), version)
	for piece := range pieces {
		for _, part := range parts {
			if len(part) != GroupSize*n*pieces {
				return nil
			}
			w = append(w, part[GroupSize*(n*piece+block):][:GroupSize]...)
		}
	}
	return w
}

// WordsOf puts the parts that [Words.Parts] gave together again.
func WordsOf(version byte, parts [][]byte) Words {
	return Unbind(parts, version, 1, 0)
}
