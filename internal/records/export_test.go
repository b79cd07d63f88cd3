package records

// HoldAtMost changes the limit of waiting entries, normally 200,000. Call it before Run.
func (w *Writer) HoldAtMost(entries int) { w.most = entries }
