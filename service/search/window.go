package search

// firstWindow is how many blocks of each shelf a search looks at first, where it need not know
// of more to find what is wanted.
const firstWindow = 256

// narrow lets heads, which are those of a shelf up to the query's window, be all blocks of the
// query's span: it ends before the last of them, behind which there may be others.
func (q *Query) narrow(heads []head) {
	if q.window == 0 || len(heads) < q.window {
		return
	}
	q.narrowed = true
	last := q.bound(heads[len(heads)-1])
	since, until := q.span()
	switch {
	case !q.OldestFirst && last >= since:
		q.Since = notZero(last+1, 1)
	case q.OldestFirst && last < until:
		q.Until = notZero(last, -1)
	}
}

// notZero is t, or a time beside it, as 0 stands for no end.
func notZero(t, beside int64) int64 {
	if t == 0 {
		return beside
	}
	return t
}

// goOn has the query go on behind a part of its span, of which so many blocks were looked at,
// and tells whether there is more.
func (q *Query) goOn(part *Query, looked int) bool {
	if q.OldestFirst {
		q.Since = part.Until
	} else {
		q.Until = part.Since
	}
	q.window *= 4
	if tell := q.Progress; tell != nil {
		q.Progress = func(done, all int) { tell(looked+done, looked+all) }
	}
	return part.narrowed
}
