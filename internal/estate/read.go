package estate

import (
	"errors"
	"fmt"
	"io"
	"reflect"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"kestrel/internal/core/words"
)

// Limits of a file.
const (
	MaxText      = 768 << 10 // bytes; a request has some more
	MaxDocuments = 5000
	maxDepth     = 12
)

// Spot is a place in a file, counted from 1.
type Spot struct{ Line, Column int }

// Fault is what is wrong at a place.
type Fault struct {
	Spot
	Document string // kind and name, if they are known
	Field    string
	Message  string
}

// document is one of a file, with where its fields stand.
type document struct {
	kind, name string
	value      any // pointer to the kind's form
	spots      map[string]Spot
	at         Spot
}

// title names a document for people.
func (d *document) title() string { return strings.TrimSpace(d.kind + " " + d.name) }

// spot finds where a field stands, or what it is in.
func (d *document) spot(field string) Spot {
	for field != "" {
		if s, ok := d.spots[field]; ok {
			return s
		}
		at := strings.LastIndexAny(field, ".[")
		if at < 0 {
			break
		}
		field = field[:at]
	}
	return d.at
}

// parse reads the documents of a file. Keys that are not known are refused with where they
// stand: what is misspelt would otherwise say nothing, silently.
func parse(text string) (docs []*document, faults []Fault) {
	if len(text) > MaxText {
		return nil, []Fault{{Message: fmt.Sprintf("A file has at most %d bytes.", MaxText)}}
	}
	dec := yaml.NewDecoder(strings.NewReader(text))
	names := map[string]Spot{}
	for {
		var n yaml.Node
		err := dec.Decode(&n)
		if errors.Is(err, io.EOF) {
			return docs, faults
		}
		if err != nil {
			return nil, append(faults, syntaxFault(err))
		}
		if len(n.Content) == 0 || n.Content[0].Tag == "!!null" {
			continue
		}
		if len(docs) >= MaxDocuments {
			return nil, append(faults, Fault{Spot: Spot{n.Line, n.Column}, Message: fmt.Sprintf("A file has at most %d documents.", MaxDocuments)})
		}
		d, more := readDocument(n.Content[0])
		if faults = append(faults, more...); d == nil {
			continue
		}
		if was, twice := names[strings.ToLower(d.title())]; twice {
			faults = append(faults, Fault{d.at, d.title(), "name", fmt.Sprintf("%s stands at line %d already.", words.Upper(d.title()), was.Line)})
			continue
		}
		names[strings.ToLower(d.title())] = d.at
		docs = append(docs, d)
	}
}

// syntaxFault finds the line that the reader of YAML names.
func syntaxFault(err error) Fault {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	f := Fault{Message: words.Upper(text) + "."}
	if rest, ok := strings.CutPrefix(text, "line "); ok {
		number, why, _ := strings.Cut(rest, ": ")
		if n, err := strconv.Atoi(number); err == nil {
			f.Line, f.Column, f.Message = n, 1, words.Upper(why)+"."
		}
	}
	return f
}

func readDocument(n *yaml.Node) (*document, []Fault) {
	d := &document{spots: map[string]Spot{}, at: Spot{n.Line, n.Column}}
	if n.Kind != yaml.MappingNode {
		return nil, []Fault{{d.at, "", "", "A document is a list of settings, KEY: VALUE."}}
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch n.Content[i].Value {
		case "kind":
			d.kind = n.Content[i+1].Value
			d.at = Spot{n.Content[i].Line, n.Content[i].Column}
		case "name":
			d.name = n.Content[i+1].Value
		}
	}
	d.value = blank(d.kind)
	if d.value == nil {
		text := fmt.Sprintf("%q is none of %s.", d.kind, strings.Join(Kinds(), ", "))
		if d.kind == "" {
			text = "Say what it is, with kind: one of " + strings.Join(Kinds(), ", ") + "."
		}
		return nil, []Fault{{d.at, d.title(), "kind", text}}
	}
	r := &reader{doc: d}
	r.read("", n, reflect.ValueOf(d.value).Elem(), 0)
	if b, ok := d.value.(*berthDoc); ok {
		d.name = b.Of + " " + d.name
	}
	return d, r.faults
}

// reader enters a document into its form.
type reader struct {
	doc    *document
	faults []Fault
}

func (r *reader) fault(n *yaml.Node, field, format string, a ...any) {
	r.faults = append(r.faults, Fault{Spot{n.Line, n.Column}, r.doc.title(), field, fmt.Sprintf(format, a...)})
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func (r *reader) read(path string, n *yaml.Node, to reflect.Value, depth int) {
	if depth > maxDepth {
		r.fault(n, path, "This goes too deep.")
		return
	}
	if n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if path != "" {
		r.doc.spots[path] = Spot{n.Line, n.Column}
	}
	switch to.Kind() {
	case reflect.Pointer:
		to.Set(reflect.New(to.Type().Elem()))
		r.read(path, n, to.Elem(), depth)
	case reflect.Struct:
		r.readStruct(path, n, to, depth)
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			r.fault(n, path, "%s is a list: put each into a line of its own, after a dash.", path)
			return
		}
		out := reflect.MakeSlice(to.Type(), len(n.Content), len(n.Content))
		for i, x := range n.Content {
			r.read(fmt.Sprintf("%s[%d]", path, i), x, out.Index(i), depth+1)
		}
		to.Set(out)
	default:
		r.readScalar(path, n, to)
	}
}

func (r *reader) readScalar(path string, n *yaml.Node, to reflect.Value) {
	if n.Kind != yaml.ScalarNode {
		r.fault(n, path, "%s is one value, not a list or settings.", path)
		return
	}
	switch to.Kind() {
	case reflect.String:
		to.SetString(n.Value)
	case reflect.Bool:
		switch n.Value {
		case "true", "yes":
			to.SetBool(true)
		case "false", "no":
		default:
			r.fault(n, path, "%s is yes or no, not %q.", path, n.Value)
		}
	default:
		v, err := strconv.ParseInt(n.Value, 10, 64)
		if err != nil {
			r.fault(n, path, "%s is a whole number, not %q.", path, n.Value)
			return
		}
		to.SetInt(v)
	}
}

func (r *reader) readStruct(path string, n *yaml.Node, to reflect.Value, depth int) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, path, "%s is settings, KEY: VALUE.", path)
		return
	}
	fields := fieldsOf(to)
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		f, known := fields[key.Value]
		switch {
		case !known:
			var all []string
			for k := range fields {
				all = append(all, k)
			}
			text := fmt.Sprintf("%q is no setting here.", key.Value)
			if near, ok := words.Nearest(key.Value, all); ok {
				text += fmt.Sprintf(" Did you mean %s?", near)
			}
			r.fault(key, join(path, key.Value), "%s", text)
		case seen[key.Value]:
			r.fault(key, join(path, key.Value), "%s stands there twice.", key.Value)
		default:
			r.read(join(path, key.Value), value, f, depth+1)
			r.doc.spots[join(path, key.Value)] = Spot{key.Line, key.Column}
		}
		seen[key.Value] = true
	}
}

// fieldsOf are the fields of a form by their names in the file, those of what it embeds
// among them.
func fieldsOf(v reflect.Value) map[string]reflect.Value {
	out := map[string]reflect.Value{}
	for i := range v.NumField() {
		f := v.Type().Field(i)
		if f.Anonymous {
			for k, x := range fieldsOf(v.Field(i)) {
				out[k] = x
			}
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		out[name] = v.Field(i)
	}
	return out
}
