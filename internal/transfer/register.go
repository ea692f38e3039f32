package transfer

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// register has another catalog know a table where it lies, and keep it from then on. Its description is copied, since the one that there
// is belongs to the catalog that it is in, which may remove it.
func register(ctx context.Context, r Request, out *Copied) error {
	held, err := r.From.Holdings(ctx)
	if err != nil {
		return err
	}
	out.Rows, out.Bytes, out.States = held.Rows, held.DataBytes, held.Snapshots
	if r.To.IsFolder() {
		return fault.New(fault.Usage, "the warehouse %s is a folder, whose tables lie in it", r.To.Dir()).
			Try("leave out --in-place, or name a catalog of another kind")
	}
	if !r.Of.IsFolder() && !r.ThenDrop {
		return fault.New(fault.Usage, "the table %s would be written to by two catalogs, each of which would not know of the other",
			r.From.Name).
			Try("have this one forget it with --then-drop, or copy it with --history")
	}
	if r.DryRun {
		return nil
	}
	text, err := r.From.KeptBy(r.To)
	if err != nil {
		return lost(r.From.MetadataLocation(), err)
	}
	place := storage.Join(storage.Path(r.From.Location()), "metadata", fmt.Sprintf("00000-%s.metadata.json", uuid.New()))
	if err := storage.WriteAll(ctx, r.To.Store(), place, text, storage.Creation{Mode: storage.Exclusive, Durable: true}); err != nil {
		return lost(place, err)
	}
	if err := r.To.Register(ctx, r.Name, place); err != nil {
		return err
	}
	out.registered = place
	made, err := r.To.Find(ctx, r.Name)
	if err == nil && !r.From.SameAs(made) {
		err = fault.New(fault.Conflict, "the catalog has another table of the name %s", r.Name).Try("give it another name")
	}
	if err != nil {
		return err
	}
	out.SnapshotID = made.StateID()
	if r.ThenDrop {
		return nil
	}
	return r.Of.HandOver(ctx, r.From, r.To, r.Name)
}

// drop ends the table that was copied, if it is as it was then. Its files stay where another catalog knows them.
func drop(ctx context.Context, r Request, out *Copied) error {
	now, err := r.Of.Find(ctx, r.From.Name)
	if err != nil {
		return err
	}
	if now.StateID() != r.From.StateID() || now.MetadataLocation() != r.From.MetadataLocation() {
		return fault.New(fault.Conflict, "the table %s was changed while it was copied, and stays", r.From.Name).
			Try("drop the copy %s, and copy it again", r.Name)
	}
	if _, err := r.Of.Drop(ctx, r.From.Name, r.How == InPlace, out.registered); err != nil {
		return err
	}
	out.Dropped = true
	return nil
}
