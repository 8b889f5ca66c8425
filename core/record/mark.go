package record

// Mark says how far a followed source has been taken: all of its bytes up to an
// offset. A source is one stream of one file, under a name that no other ever gets.
type Mark struct {
	Source string
	Offset int64 // bytes from the beginning of the source
}
