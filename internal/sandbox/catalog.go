package sandbox

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/apache/iceberg-go"
	icetable "github.com/apache/iceberg-go/table"
	"github.com/google/uuid"
)

// catalog is a catalog of the REST protocol of Iceberg (its specification, "rest-catalog-open-api.yaml"): namespaces, tables, and
// commits that hold only as long as their requirements do. The metadata of tables lies with their files, in the store of the sandbox.
type catalog struct {
	objects *folder
	guard   *guard // nil for anybody
	mutex   sync.Mutex
	state   catalogState
}

// catalogState is what is kept from one run to the next: by names whose parts are joined by separator.
type catalogState struct {
	Namespaces map[string]bool   `json:"namespaces"`
	Tables     map[string]string `json:"tables"` // where their newest metadata is
}

// separator stands between the parts of a namespace in paths, as the protocol has it.
const separator = "\x1f"

func (c *catalog) file() string { return filepath.Join(c.objects.dir, notes, "catalog") }

func openCatalog(f *folder) (*catalog, error) {
	c := &catalog{objects: f, state: catalogState{map[string]bool{}, map[string]string{}}}
	text, err := os.ReadFile(c.file())
	if errors.Is(err, os.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &c.state)
	}
	return c, err
}

func (c *catalog) save() error {
	text, err := json.Marshal(c.state)
	if err != nil {
		return err
	}
	if err := os.WriteFile(c.file()+".new", text, 0o666); err != nil {
		return err
	}
	return os.Rename(c.file()+".new", c.file())
}

// problem is an answer that is an error of the protocol.
type problem struct {
	status        int
	kind, message string
}

func (p *problem) Error() string { return p.message }

func noSuch(kind, name string) *problem {
	return &problem{http.StatusNotFound, "NoSuch" + kind + "Exception", fmt.Sprintf("%s does not exist: %s", kind, plainName(name))}
}

func plainName(name string) string { return strings.ReplaceAll(name, separator, ".") }

// ServeHTTP answers a request to a path below /v1/.
func (c *catalog) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	var steps []string
	for step := range strings.SplitSeq(strings.TrimPrefix(r.URL.EscapedPath(), "/v1/"), "/") {
		plain, err := url.PathUnescape(step)
		if err != nil {
			plain = step
		}
		steps = append(steps, plain)
	}
	answer, err := c.guarded(r, steps)
	w.Header().Set("Content-Type", "application/json")
	var p *problem
	switch {
	case errors.As(err, &p):
	case err != nil:
		p = &problem{http.StatusInternalServerError, "ServerErrorException", err.Error()}
	case answer == nil:
		w.WriteHeader(http.StatusNoContent)
		return
	default:
		// Whoever asked may have gone.
		_ = json.NewEncoder(w).Encode(answer)
		return
	}
	w.WriteHeader(p.status)
	_ = json.NewEncoder(w).Encode(map[string]any{"error": map[string]any{"message": p.message, "type": p.kind, "code": p.status}})
}

// guarded answers a request of who may ask.
func (c *catalog) guarded(r *http.Request, steps []string) (any, error) {
	if c.guard == nil {
		return c.answer(r, steps)
	}
	if strings.Join(steps, "/") == "oauth/tokens" {
		return c.guard.token(r)
	}
	if err := c.guard.enters(r); err != nil {
		return nil, err
	}
	if len(steps) > 1 && steps[0] == guardPrefix {
		return c.answer(r, steps[1:])
	}
	if len(steps) == 1 && steps[0] == "config" {
		return configuration(map[string]string{"prefix": guardPrefix}), nil
	}
	return nil, &problem{http.StatusNotFound, "NotFoundException", "paths begin with /v1/" + guardPrefix + "/ here"}
}

// configuration is what the catalog says of itself.
func configuration(overrides map[string]string) map[string]any {
	const namespaces, tables = "/v1/{prefix}/namespaces", "/v1/{prefix}/namespaces/{namespace}/tables"
	return map[string]any{"defaults": map[string]string{}, "overrides": overrides, "endpoints": []string{"GET " + namespaces,
		"POST " + namespaces, "GET " + namespaces + "/{namespace}", "DELETE " + namespaces + "/{namespace}", "GET " + tables, "POST " + tables,
		"GET " + tables + "/{table}", "POST " + tables + "/{table}", "DELETE " + tables + "/{table}", "HEAD " + namespaces + "/{namespace}",
		"POST " + namespaces + "/{namespace}/register", "POST /v1/{prefix}/transactions/commit"}}
}

// properties are those by which the files of tables are reached, none where nobody is asked who they are.
func (c *catalog) properties(r *http.Request) map[string]string {
	if c.guard == nil {
		return map[string]string{}
	}
	return c.guard.properties(r)
}

// paged is one page of a list, as the protocol asks for it, under a name.
func paged[T any](r *http.Request, name string, list []T) map[string]any {
	query := r.URL.Query()
	from, _ := strconv.Atoi(query.Get("pageToken"))
	size, err := strconv.Atoi(query.Get("pageSize"))
	from = min(max(from, 0), len(list))
	if !query.Has("pageToken") || err != nil || size <= 0 || from+size >= len(list) {
		return map[string]any{name: list[from:]}
	}
	return map[string]any{name: list[from : from+size], "next-page-token": strconv.Itoa(from + size)}
}

// answer does what a request asks for.
func (c *catalog) answer(r *http.Request, steps []string) (any, error) {
	switch {
	case len(steps) == 1 && steps[0] == "config":
		return configuration(map[string]string{}), nil
	case len(steps) == 1 && steps[0] == "namespaces" && r.Method == http.MethodGet:
		return paged(r, "namespaces", c.namespacesIn(r.URL.Query().Get("parent"))), nil
	case len(steps) == 3 && steps[0] == "namespaces" && steps[2] == "tables" && r.Method == http.MethodPost:
		return c.stage(r, steps[1])
	case len(steps) == 3 && steps[0] == "namespaces" && steps[2] == "register" && r.Method == http.MethodPost:
		return c.register(r, steps[1])
	case len(steps) == 1 && steps[0] == "namespaces" && r.Method == http.MethodPost:
		return c.makeNamespace(r.Body)
	case len(steps) == 2 && steps[0] == "namespaces":
		return c.namespace(r.Method, steps[1])
	case len(steps) == 3 && steps[0] == "namespaces" && steps[2] == "tables" && r.Method == http.MethodGet:
		return c.tablesIn(r, steps[1])
	case len(steps) == 4 && steps[0] == "namespaces" && steps[2] == "tables":
		return c.table(r, steps[1], steps[3])
	case len(steps) == 2 && steps[0] == "transactions" && steps[1] == "commit" && r.Method == http.MethodPost:
		return c.together(r)
	}
	return nil, &problem{http.StatusNotFound, "NotFoundException", "the sandbox does not answer " + r.Method + " " + r.URL.Path}
}

func (c *catalog) namespacesIn(parent string) [][]string {
	out := [][]string{}
	for _, name := range slices.Sorted(maps.Keys(c.state.Namespaces)) {
		parts := strings.Split(name, separator)
		if strings.Join(parts[:len(parts)-1], separator) == parent {
			out = append(out, parts)
		}
	}
	return out
}

func (c *catalog) makeNamespace(body io.Reader) (any, error) {
	var asked struct {
		Namespace  []string          `json:"namespace"`
		Properties map[string]string `json:"properties"`
	}
	if err := json.NewDecoder(body).Decode(&asked); err != nil || len(asked.Namespace) == 0 {
		return nil, &problem{http.StatusBadRequest, "BadRequestException", "no namespace is named"}
	}
	name := strings.Join(asked.Namespace, separator)
	if c.state.Namespaces[name] {
		return nil, &problem{http.StatusConflict, "AlreadyExistsException", "Namespace already exists: " + plainName(name)}
	}
	c.state.Namespaces[name] = true
	return asked, c.save()
}

func (c *catalog) namespace(method, name string) (any, error) {
	if !c.state.Namespaces[name] {
		return nil, noSuch("Namespace", name)
	}
	if method != http.MethodDelete {
		return map[string]any{"namespace": strings.Split(name, separator), "properties": map[string]string{}}, nil
	}
	for table := range c.state.Tables {
		if strings.HasPrefix(table, name+separator) {
			return nil, &problem{http.StatusConflict, "NamespaceNotEmptyException", "Namespace is not empty: " + plainName(name)}
		}
	}
	delete(c.state.Namespaces, name)
	return nil, c.save()
}

// identifier is the name of a table in the protocol.
type identifier struct {
	Namespace []string `json:"namespace"`
	Name      string   `json:"name"`
}

func (c *catalog) tablesIn(r *http.Request, namespace string) (any, error) {
	if !c.state.Namespaces[namespace] {
		return nil, noSuch("Namespace", namespace)
	}
	list := []identifier{}
	for _, table := range slices.Sorted(maps.Keys(c.state.Tables)) {
		parts := strings.Split(table, separator)
		if at := len(parts) - 1; strings.Join(parts[:at], separator) == namespace {
			list = append(list, identifier{parts[:at], parts[at]})
		}
	}
	return paged(r, "identifiers", list), nil
}

// described is a table as the protocol tells of it.
type described struct {
	Location string            `json:"metadata-location"`
	Metadata icetable.Metadata `json:"metadata"`
	Config   map[string]string `json:"config"`
}

func (c *catalog) table(r *http.Request, namespace, name string) (any, error) {
	full := namespace + separator + name
	location, there := c.state.Tables[full]
	if r.Method == http.MethodPost {
		return c.commit(r, namespace, full, location)
	}
	if !there {
		return nil, noSuch("Table", full)
	}
	if r.Method == http.MethodDelete {
		delete(c.state.Tables, full)
		return nil, c.save()
	}
	metadata, err := c.read(location)
	return described{location, metadata, c.properties(r)}, err
}

// change is what a commit asks of one table.
type change struct {
	Identifier   identifier            `json:"identifier"`
	Requirements icetable.Requirements `json:"requirements"`
	Updates      icetable.Updates      `json:"updates"`
}

// commit makes the next version of a table, or its first.
func (c *catalog) commit(r *http.Request, namespace, full, location string) (any, error) {
	var asked change
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
		return nil, &problem{http.StatusBadRequest, "BadRequestException", err.Error()}
	}
	place, next, err := c.next(asked, namespace, full, location)
	if err != nil {
		return nil, err
	}
	c.state.Tables[full] = place
	return described{place, next, c.properties(r)}, c.save()
}

// together makes the next versions of several tables, all or none.
func (c *catalog) together(r *http.Request) (any, error) {
	var asked struct {
		Changes []change `json:"table-changes"`
	}
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
		return nil, &problem{http.StatusBadRequest, "BadRequestException", err.Error()}
	}
	places := map[string]string{}
	for _, one := range asked.Changes {
		namespace := strings.Join(one.Identifier.Namespace, separator)
		full := namespace + separator + one.Identifier.Name
		place, _, err := c.next(one, namespace, full, c.state.Tables[full])
		if err != nil {
			return nil, err
		}
		places[full] = place
	}
	maps.Copy(c.state.Tables, places)
	return nil, c.save()
}

// next writes the next version of a table, or its first, which nothing names yet.
func (c *catalog) next(asked change, namespace, full, location string) (place string, next icetable.Metadata, err error) {
	var base icetable.Metadata
	if location != "" {
		if base, err = c.read(location); err != nil {
			return "", nil, err
		}
	} else if !c.state.Namespaces[namespace] {
		return "", nil, noSuch("Namespace", namespace)
	} else if !slices.ContainsFunc(asked.Requirements, func(r icetable.Requirement) bool { return r.GetType() == "assert-create" }) {
		return "", nil, noSuch("Table", full)
	}
	for _, requirement := range asked.Requirements {
		if err := requirement.Validate(base); err != nil {
			return "", nil, &problem{http.StatusConflict, "CommitFailedException", "Requirement failed: " + err.Error()}
		}
	}
	if base == nil {
		next, err = first(asked.Updates)
	} else {
		next, err = icetable.UpdateTableMetadata(base, asked.Updates, location)
	}
	if err != nil {
		return "", nil, &problem{http.StatusBadRequest, "BadRequestException", err.Error()}
	}
	version := 0
	if base != nil {
		fmt.Sscanf(location[strings.LastIndexByte(location, '/')+1:], "%d-", &version)
		version++
	}
	place = fmt.Sprintf("%s/metadata/%05d-%s.metadata.json", strings.TrimRight(next.Location(), "/"), version, uuid.New())
	if err := c.write(place, next); err != nil {
		return "", nil, err
	}
	return place, next, nil
}

// stage tells where the files of a table may be written that is made later, by its first commit.
func (c *catalog) stage(r *http.Request, namespace string) (any, error) {
	var asked struct {
		Name     string          `json:"name"`
		Location string          `json:"location"`
		Schema   *iceberg.Schema `json:"schema"`
		Stage    bool            `json:"stage-create"`
	}
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
		return nil, &problem{http.StatusBadRequest, "BadRequestException", err.Error()}
	}
	if !asked.Stage {
		return nil, &problem{http.StatusNotImplemented, "UnsupportedOperationException", "the sandbox makes tables by commits alone"}
	}
	if !c.state.Namespaces[namespace] {
		return nil, noSuch("Namespace", namespace)
	}
	if full := namespace + separator + asked.Name; c.state.Tables[full] != "" {
		return nil, &problem{http.StatusConflict, "AlreadyExistsException", "Table already exists: " + plainName(full)}
	}
	metadata, err := icetable.NewMetadata(asked.Schema, iceberg.UnpartitionedSpec, icetable.UnsortedSortOrder, asked.Location, nil)
	return map[string]any{"metadata": metadata, "config": c.properties(r)}, err
}

// register has a table be one whose metadata is there already.
func (c *catalog) register(r *http.Request, namespace string) (any, error) {
	var asked struct {
		Name     string `json:"name"`
		Location string `json:"metadata-location"`
	}
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil {
		return nil, &problem{http.StatusBadRequest, "BadRequestException", err.Error()}
	}
	if !c.state.Namespaces[namespace] {
		return nil, noSuch("Namespace", namespace)
	}
	full := namespace + separator + asked.Name
	if c.state.Tables[full] != "" {
		return nil, &problem{http.StatusConflict, "AlreadyExistsException", "Table already exists: " + plainName(full)}
	}
	metadata, err := c.read(asked.Location)
	if err != nil {
		return nil, &problem{http.StatusBadRequest, "BadRequestException", err.Error()}
	}
	c.state.Tables[full] = asked.Location
	return described{asked.Location, metadata, c.properties(r)}, c.save()
}

// first makes the metadata of a table of nothing but updates.
func first(updates icetable.Updates) (icetable.Metadata, error) {
	b, err := icetable.NewMetadataBuilder(2)
	if err != nil {
		return nil, err
	}
	for _, u := range updates {
		if err := u.Apply(b); err != nil {
			return nil, err
		}
	}
	return b.Build()
}

// split takes the bucket and the key out of a URI of the sandbox's store.
func split(uri string) (bucket, key string, ok bool) {
	rest, ok := strings.CutPrefix(uri, "s3://")
	bucket, key, cut := strings.Cut(rest, "/")
	return bucket, key, ok && cut
}

func (c *catalog) read(uri string) (icetable.Metadata, error) {
	bucket, key, ok := split(uri)
	if !ok {
		return nil, fmt.Errorf("%s does not lie in the sandbox", uri)
	}
	text, err := os.ReadFile(c.objects.path(bucket, key))
	if err != nil {
		return nil, err
	}
	return icetable.ParseMetadataBytes(text)
}

func (c *catalog) write(uri string, metadata icetable.Metadata) error {
	bucket, key, ok := split(uri)
	if !ok {
		return &problem{http.StatusBadRequest, "BadRequestException", "the files of tables lie in the sandbox, s3://bucket/…, not in " + uri}
	}
	text, err := json.Marshal(metadata)
	if err != nil {
		return err
	}
	if exists, _ := c.objects.BucketExists(bucket); !exists {
		if err := c.objects.CreateBucket(bucket); err != nil {
			return err
		}
	}
	_, err = c.objects.PutObject(bucket, key, nil, bytes.NewReader(text), int64(len(text)), nil)
	return err
}
