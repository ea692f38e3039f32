package setting

import (
	"strconv"

	"trevak/internal/columnar"
	"trevak/internal/fault"
	"trevak/internal/layout"
	"trevak/internal/weigh"
)

// Favored returns what --codec auto favors. Stated without that it would have no effect, unless a feed file states the one or the other.
func (f *Flow) Favored(fromFeed bool) (weigh.Favor, error) {
	favor, err := weigh.ParseFavor(f.Favor)
	if err == nil && f.Stated("favor") && f.Codec != string(columnar.Auto) && !fromFeed {
		err = fault.New(fault.Usage, "--favor is for --codec auto, and --codec is %s",
			f.Codec).Try("write --codec auto, or leave --favor out")
	}
	return favor, err
}

// LayoutOptions are how rows are laid out.
func (f *Flow) LayoutOptions() (layout.Options, error) {
	o := layout.DefaultOptions
	var err error
	if o.FileBytes, err = layout.ParseSize("--file-size", f.FileSize); err != nil {
		return o, err
	}
	if err := o.ParseRowGroup(f.RowGroup); err != nil {
		return o, err
	}
	o.Columnar.Bloom, o.Columnar.SecondPages = f.Bloom, f.PageVersion == 2
	if f.PageVersion != 1 && f.PageVersion != 2 {
		return o, fault.Unknown("page-version", strconv.Itoa(f.PageVersion), "1", "2")
	}
	if f.Codec == string(columnar.Auto) {
		o.Columnar.Codec = columnar.Auto
		return o, nil
	}
	codec, single, err := columnar.ParseCodecs(f.Codec)
	if err != nil {
		return o, fault.New(fault.Usage, "--codec: %s", err)
	}
	o.Columnar.Codec, o.Columnar.Codecs = codec, single
	return o, nil
}
