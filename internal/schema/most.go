package schema

// kin are the classes that go together in one type, beside nulls and null tokens.
var kin = [...]Class{ClassBoolean, ClassYesNo, ClassLetter, Numeric, ClassDate | ClassTimestamp, ClassTime, ClassTimestampTz,
	ClassYearFirst,
	ClassDayFirst | ClassDayOrMonth, ClassMonthFirst | ClassDayOrMonth, ClassUUID, ClassObject, ClassArray}

// most returns the column without the values that are of other types than more than half of all, and how many these are; nil
// and 0 where no type has as many, or it is string.
func (n *Node) most() (*Node, int64) {
	for _, classes := range kin {
		all, of, nested := n.Values(), int64(0), classes&(ClassObject|ClassArray) != 0
		if !nested {
			all -= n.Counts[ClassToken.Index()]
		}
		for i, count := range n.Counts {
			if classes&(1<<i) != 0 {
				of += count
			}
		}
		if 2*of <= all || of == all {
			continue
		}
		most := *n
		most.Seen &= classes | ClassNull | ClassToken
		if nested {
			most.Seen &^= ClassToken
		}
		for i := range most.Counts {
			if most.Seen&(1<<i) == 0 {
				most.Counts[i] = 0
			}
		}
		if Resolve(most.Seen) == String {
			return nil, 0
		}
		return &most, all - of
	}
	return nil, 0
}
