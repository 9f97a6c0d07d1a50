package api

import (
	"encoding/json"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/definition"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/encode"
	"rillmark/internal/settings"
)

// TestKindsDescribeThemselves: each kind's schemas stand for themselves, have all of its
// fields with titles, and say which are secret, advanced, or depend on others; an
// outlet's has its own kind's section alone, and no field that means nothing there.
func TestKindsDescribeThemselves(t *testing.T) {
	r := newRegistry()
	for _, defined := range []reflect.Type{typeOf[definition.Source](), typeOf[definition.Destination](), typeOf[definition.Outlet]()} {
		r.Schema(defined, true, "")
	}
	describeFields(r)
	all := make(map[string]Kind)
	for _, k := range kindsOf(r) {
		raw, err := json.Marshal(k)
		require.NoError(t, err)
		require.NotContains(t, string(raw), "$ref", k.Name)
		all[k.Name] = k
	}
	fields := func(schema any) map[string]any { return schema.(map[string]any)["properties"].(map[string]any) }
	for _, k := range kinds.All {
		settingsOf := fields(all[k.Name].Settings)
		for _, f := range settings.Fields(k.Settings()) {
			if one, top := settingsOf[f.Path].(map[string]any); top {
				require.NotEmpty(t, one["title"], "%s.%s", k.Name, f.Path)
				require.Equal(t, f.Secret, one["format"] == "password", "%s.%s", k.Name, f.Path)
				require.Equal(t, f.Advanced, one["x-advanced"] == true, "%s.%s", k.Name, f.Path)
			}
		}
		outlet := fields(all[k.Name].Outlet)
		for _, other := range kinds.All {
			require.Equal(t, other.Name == k.Name && k.Outlet != nil, outlet[other.Name] != nil, "%s in %s", other.Name, k.Name)
		}
		require.Equal(t, k.Topic != "", outlet["topic"] != nil, k.Name)
		require.Equal(t, k.Markers, outlet["deletes"] != nil, k.Name)
		if k.Formats[0] == encode.FormatTable {
			require.Nil(t, outlet["format"], "rows of tables have one format")
			continue
		}
		require.Equal(t, all[k.Name].Formats, outlet["format"].(map[string]any)["enum"], k.Name)
	}
	require.Nil(t, fields(all["pull"].Outlet)["batch"])
	require.Equal(t, "stream", fields(all["nats"].Settings)["create_stream"].(map[string]any)["x-when"])
	require.Equal(t, "directory", fields(all["file"].Settings)["bucket"].(map[string]any)["x-instead"])
	engines := enginesOf(r)
	require.Len(t, engines, 2)
	for i, required := range [][]string{{"host", "database", "user"}, {"host", "user"}} {
		require.Equal(t, required, engines[i].Connection.(map[string]any)["required"])
		require.Equal(t, []any{5432.0, 3306.0}[i], fields(engines[i].Connection)["port"].(map[string]any)["default"])
		require.Equal(t, "password", fields(engines[i].Connection)["password"].(map[string]any)["format"])
		require.Nil(t, fields(engines[i].Source)["connection"])
	}
	require.Nil(t, fields(engines[1].Connection)["slot"])
}
