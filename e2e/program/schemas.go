package program

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/present"
)

// schemas are those of the documents, made strict: a field that no schema knows is a fault. They are
// the ones in docs/schemas, which a test holds against the types.
var schemas = sync.OnceValue(func() map[string]*jsonschema.Schema {
	out := map[string]*jsonschema.Schema{}
	c := jsonschema.NewCompiler()
	for name, s := range present.Schemas() {
		text, err := json.Marshal(s)
		if err != nil {
			panic(err)
		}
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		if err != nil {
			panic(err)
		}
		strict(doc)
		url := strings.ReplaceAll(name, " ", "-") + ".json"
		if err := c.AddResource(url, doc); err != nil {
			panic(err)
		}
		if out[name], err = c.Compile(url); err != nil {
			panic(err)
		}
	}
	return out
})

// strict forbids fields that a schema does not name.
func strict(v any) {
	switch v := v.(type) {
	case map[string]any:
		if _, ok := v["properties"].(map[string]any); ok && v["additionalProperties"] == nil {
			v["additionalProperties"] = false
		}
		for k := range maps.Keys(v) {
			strict(v[k])
		}
	case []any:
		for _, e := range v {
			strict(e)
		}
	}
}

// holdAgainstSchemas holds the documents that a call printed against their schemas.
func holdAgainstSchemas(t *testing.T, out []byte, args []string) {
	t.Helper()
	d := json.NewDecoder(bytes.NewReader(out))
	d.UseNumber()
	for {
		var doc map[string]any
		err := d.Decode(&doc)
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			return // cut off on purpose, or no document; who wants one parses it
		}
		head, _ := doc["fitcheck"].(map[string]any)
		name, _ := head["document"].(string)
		require.NotNil(t, schemas()[name], "%v prints a document %q that has no schema", args, name)
		require.NoError(t, schemas()[name].Validate(doc), "%v", args)
	}
}
