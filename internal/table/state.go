package table

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"

	"trevak/internal/fault"
	"trevak/internal/schema"
	"trevak/internal/wording"
)

// Main is the name of the branch whose newest state is the table.
const Main = icetable.MainBranch

// Ref is a name for a state of a table: a tag keeps the state that it was given to, a branch goes on with its commits.
type Ref struct {
	Name string
	Tag  bool
	ID   int64
	// Committed is when the state came about.
	Committed time.Time
}

// Refs lists the tags and branches of a table, main first and then in the order of their names.
func (t *Table) Refs() (out []Ref) {
	metadata := t.table.Metadata()
	for name, ref := range metadata.Refs() {
		r := Ref{Name: name, Tag: ref.SnapshotRefType == icetable.TagRef, ID: ref.SnapshotID}
		if s := metadata.SnapshotByID(ref.SnapshotID); s != nil {
			r.Committed = time.UnixMilli(s.TimestampMs).UTC()
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b Ref) int {
		if a.Name == Main || b.Name == Main {
			return cmp.Compare(btoi(b.Name == Main), btoi(a.Name == Main))
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// ref finds a tag or branch.
func (t *Table) ref(name string) (icetable.SnapshotRef, bool) {
	for n, r := range t.table.Metadata().Refs() {
		if n == name {
			return r, true
		}
	}
	return icetable.SnapshotRef{}, false
}

// StateID is the id of the snapshot that this is the table's state of, 0 for a table without any.
func (t *Table) StateID() int64 {
	if t.state == nil {
		return 0
	}
	return t.state.SnapshotID
}

// Branch is the branch whose newest state this is; it is empty for a state of the past.
func (t *Table) Branch() string { return t.branch }

// At returns a table as it was in a state, which is named by the id of its snapshot, by a tag or branch, or by a time at which it was
// the table's. The schema is the one that the table had then.
func (t *Table) At(text string) (*Table, error) {
	if r, ok := t.ref(text); ok {
		if r.SnapshotRefType == icetable.BranchRef {
			return t.OnBranch(text)
		}
		return t.at(r.SnapshotID)
	}
	if id, err := strconv.ParseInt(text, 10, 64); err == nil && len(text) > 8 {
		if t.table.Metadata().SnapshotByID(id) == nil {
			return nil, fault.New(fault.Usage, "the table %s has no snapshot %s", t.Name, text).
				Try("its snapshots that are not expired are listed by").By(fault.TableHistory, t.Name.String())
		}
		return t.at(id)
	}
	if at, ok := ParseTime(text); ok {
		return t.asOf(at)
	}
	return nil, t.noRef(text)
}

// noRef says that a table has no state of a name.
func (t *Table) noRef(text string) error {
	var names []string
	for _, r := range t.Refs() {
		names = append(names, r.Name)
	}
	e := fault.New(fault.Usage, "%q is no snapshot, tag or branch of the table %s, and no time", text, t.Name)
	if near := wording.Nearest(text, names); len(near) > 0 {
		return e.Try("%s", wording.Meant(near))
	}
	return e.Try("write a time like 2031-05-03T12:00:00Z, or take the id of a snapshot from").By(fault.TableHistory, t.Name.String())
}

// times are the ways in which a time may be written; one without a zone is in UTC.
var times = []string{time.RFC3339Nano, "2006-01-02 15:04:05Z07:00", "2006-01-02 15:04Z07:00", "2006-01-02T15:04Z07:00",
	"2006-01-02T15:04:05.999999999", "2006-01-02T15:04", "2006-01-02 15:04:05.999999999", "2006-01-02 15:04", time.DateOnly}

// ParseTime reads a time by which a state is named. A date alone is its first moment.
func ParseTime(text string) (time.Time, bool) {
	for _, form := range times {
		if at, err := time.Parse(form, text); err == nil {
			return at.UTC(), true
		}
	}
	return time.Time{}, false
}

// asOf is the table as it was at a time (Iceberg specification, "Point in Time Reads (Time Travel)").
func (t *Table) asOf(at time.Time) (*Table, error) {
	id, first := int64(0), time.Time{}
	for e := range t.table.Metadata().SnapshotLogs() {
		then := time.UnixMilli(e.TimestampMs).UTC()
		if first.IsZero() || then.Before(first) {
			first = then
		}
		if !then.After(at) {
			id = e.SnapshotID
		}
	}
	switch {
	case first.IsZero():
		return nil, fault.New(fault.Usage, "the table %s has no state yet", t.Name).Try("load into it first")
	case id == 0:
		return nil, fault.New(fault.Usage, "what the table %s was at %s is not known: its oldest state that is not expired is of %s", t.Name,
			at.Format(time.RFC3339Nano), first.Format("2006-01-02T15:04:05.000Z")).
			Try("name a later time, or a state that is listed by").By(fault.TableHistory, t.Name.String())
	}
	return t.at(id)
}

// at is the table in the state of a snapshot that it has.
func (t *Table) at(id int64) (*Table, error) {
	s := t.table.Metadata().SnapshotByID(id)
	if s == nil {
		return nil, fault.New(fault.Storage, "the snapshot %d of table %s has expired", id, t.Name)
	}
	out := *t
	out.state, out.branch = s, ""
	if t.state != nil && t.state.SnapshotID == id && t.branch == Main {
		out.branch = Main
		return &out, nil
	}
	err := out.takeSchema(t.table.Properties())
	return &out, err
}

// takeSchema gives a view of a table the schema of its state, with what is kept of the columns in some properties.
func (t *Table) takeSchema(properties iceberg.Properties) error {
	metadata := t.table.Metadata()
	then := metadata.CurrentSchema()
	if t.state != nil && t.state.SchemaID != nil {
		for _, s := range metadata.Schemas() {
			if s.ID == *t.state.SchemaID {
				then = s
			}
		}
	}
	mapping := t.table.NameMapping()
	if text := properties[icetable.DefaultNameMappingKey]; text != t.table.Properties()[icetable.DefaultNameMappingKey] {
		mapping = nil
		if err := json.Unmarshal([]byte(text), &mapping); err != nil {
			return fault.Wrap(fault.Storage, err, "the name mapping of table %s cannot be read", t.Name)
		}
	}
	s, err := fromIceberg(then, origins(mapping))
	if err != nil {
		return fault.Wrap(fault.Schema, err, "the table %s cannot be used", t.Name)
	}
	if err := readNotes(&s, properties); err != nil {
		return err
	}
	t.Schema = s
	spec, order := layoutThen(metadata, then, t.state)
	if t.Spec, err = specFromIceberg(spec, then); err != nil {
		return err
	}
	t.Sort = sortFromIceberg(order, then)
	return nil
}

// layoutKey is the entry of a snapshot's summary with the ids of the partitioning and of the order that the table had then.
const layoutKey = "trevak.layout"

func layoutIDs(metadata icetable.Metadata) string {
	return fmt.Sprintf("%d/%d", metadata.DefaultPartitionSpec(), metadata.DefaultSortOrder())
}

// layoutThen is how files were laid out in a state, under the schema that it has. Where its commit does not tell, it is as they are now
// where the schema has the columns for it, or else in the newest way that it has them for.
func layoutThen(metadata icetable.Metadata, s *iceberg.Schema, state *icetable.Snapshot) (iceberg.PartitionSpec, icetable.SortOrder) {
	has := func(id int) bool {
		_, ok := s.FindFieldByID(id)
		return ok
	}
	specs, orders := append(slices.Clone(metadata.PartitionSpecs()), metadata.PartitionSpec()),
		append(slices.Clone(metadata.SortOrders()), metadata.SortOrder())
	var specID, orderID int
	if state != nil && state.Summary != nil {
		if n, _ := fmt.Sscanf(state.Summary.Properties[layoutKey], "%d/%d", &specID, &orderID); n == 2 {
			// What is last counts.
			specs = append(specs, slices.DeleteFunc(slices.Clone(specs), func(p iceberg.PartitionSpec) bool { return p.ID() != specID })...)
			orders = append(orders, slices.DeleteFunc(slices.Clone(orders), func(o icetable.SortOrder) bool { return o.OrderID() != orderID })...)
		}
	}
	spec, found := metadata.PartitionSpec(), false
	for _, candidate := range specs {
		fits := true
		for _, f := range candidate.Fields() {
			_, void := f.Transform.(iceberg.VoidTransform)
			fits = fits && (void || has(f.SourceID()))
		}
		if fits {
			spec, found = candidate, true
		}
	}
	if !found {
		spec = iceberg.NewPartitionSpec()
	}
	order := icetable.UnsortedSortOrder
	for _, candidate := range orders {
		fits := true
		for _, f := range candidate.Fields() {
			fits = fits && has(f.SourceID())
		}
		if fits {
			order = candidate
		}
	}
	return spec, order
}

// OnBranch is the table as a branch has it.
func (t *Table) OnBranch(name string) (*Table, error) {
	if name == Main || name == "" {
		return t, nil
	}
	r, ok := t.ref(name)
	switch {
	case !ok:
		var names []string
		for _, r := range t.Refs() {
			if !r.Tag {
				names = append(names, r.Name)
			}
		}
		e := fault.New(fault.Usage, "the table %s has no branch %q", t.Name, name)
		if near := wording.Nearest(name, names); len(near) > 0 {
			return nil, e.Try("%s", wording.Meant(near))
		}
		return nil, e.Try("its branches are %s", schema.Some(names))
	case r.SnapshotRefType != icetable.BranchRef:
		return nil, fault.New(fault.Usage, "%q is a tag of the table %s, which goes on with no commit", name, t.Name).
			Try("choose another name for the branch")
	}
	out := *t
	out.state, out.branch = t.table.Metadata().SnapshotByID(r.SnapshotID), name
	err := out.takeSchema(onBranch(t.table.Properties(), name))
	return &out, err
}

// NewBranch is OnBranch for a branch that begins at the state of the table where it is not there.
func (t *Table) NewBranch(name string) (*Table, error) {
	if _, ok := t.ref(name); ok || name == "" {
		return t.OnBranch(name)
	}
	if err := CheckRef(name); err != nil {
		return nil, err
	}
	if t.state == nil {
		return nil, fault.New(fault.Usage, "the table %s has no state yet that a branch could begin at", t.Name).Try("load into it first")
	}
	out := *t
	out.branch = name
	return &out, nil
}

// CheckRef refuses names of tags and branches that could be taken for something else.
func CheckRef(name string) error {
	_, isTime := ParseTime(name)
	_, isNumber := strconv.ParseInt(name, 10, 64)
	odd := strings.ContainsFunc(name, func(r rune) bool {
		return !strings.ContainsRune("_-.", r) && (r < '0' || r > '9') && (r|0x20 < 'a' || r|0x20 > 'z')
	})
	if name == "" || odd || isTime || isNumber == nil || name[0] == '.' || name[0] == '-' {
		return fault.New(fault.Usage, "%q cannot be the name of a tag or branch", name).
			Try("use letters a to z, digits, _ - and ., beginning with a letter, like before-summer")
	}
	return nil
}

// branchPrefix begins the names of properties that hold for a branch alone: its name follows, and that of the property.
const branchPrefix = "trevak.branch."

// onBranch are the properties of a table as a branch has them.
func onBranch(properties iceberg.Properties, branch string) iceberg.Properties {
	out := maps.Clone(properties)
	for key, value := range properties {
		if own, ok := cutBranch(key, branch); ok {
			out[own] = value
		}
	}
	return out
}

// cutBranch reports whether a property holds for a branch alone, and what it is called there.
func cutBranch(key, branch string) (own string, ok bool) {
	return strings.CutPrefix(key, branchPrefix+branch+"/")
}

func formatID(id int64) string { return strconv.FormatInt(id, 10) }

// ancestors hands over the states that a state came of, itself first, as far as they have not expired.
func ancestors(metadata icetable.Metadata, s *icetable.Snapshot, visit func(icetable.Snapshot) bool) {
	for s != nil && visit(*s) && s.ParentSnapshotID != nil {
		s = metadata.SnapshotByID(*s.ParentSnapshotID)
	}
}

// descends reports whether a state came of another.
func descends(metadata icetable.Metadata, s *icetable.Snapshot, of int64) (found bool) {
	ancestors(metadata, s, func(a icetable.Snapshot) bool {
		found = found || a.SnapshotID == of
		return !found
	})
	return found
}

// FindAt is Find for a state of the table, as At names them; the empty text is the newest of main.
func (w *Warehouse) FindAt(ctx context.Context, name Name, text string) (*Table, error) {
	t, err := w.Find(ctx, name)
	if err != nil || text == "" {
		return t, err
	}
	return t.At(text)
}
