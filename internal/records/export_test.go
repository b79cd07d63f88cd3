package records

// HoldAtMost lets so many entries wait, in place of 200,000. Call it before Run.
func (w *Writer) HoldAtMost(entries int) { w.most = entries }
