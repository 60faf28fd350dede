package httpapi

import (
	"encoding/json"
	"strings"
	"testing"

	"idlebeacon/api"
)

const hutRules = `{"type":"object","required":["name"],"properties":{
	"name":{"type":"string","maxLength":10},"beds":{"type":"integer","minimum":0},
	"where":{"x-ogc-role":"primary-geometry","format":"geometry-point"}}}`

// TestSchemaOnEveryWayIn: whatever brings an item, a schema is held.
func TestSchemaOnEveryWayIn(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"One","beds":"many","note":[1]}`)) // 2
	f.edit(201, "POST", huts+"/items", hut("b", `{"beds":3,"note":true}`))                  // 3
	header, answer := f.edit(200, "GET", huts+"/schema", "")
	if header.Get(derivedHeader) != "true" || !strings.Contains(answer, `"beds":{"type":["string","number"]`) ||
		!strings.Contains(answer, `"geometry-point"`) || !strings.Contains(answer, `/api/collections/huts/schema"`) {
		t.Errorf("derived: %s", answer)
	}
	var report api.SchemaReport
	for _, call := range []string{"POST " + huts + "/schema/check", "PUT " + huts + "/schema"} {
		method, path, _ := strings.Cut(call, " ")
		if err := json.Unmarshal([]byte(f.want(200, "", method, path, hutRules)), &report); err != nil {
			t.Fatal(err)
		}
		if report.Checked != 2 || report.Failing != 2 || report.Items[1].ID != "b" ||
			report.Items[1].Problems[0] != (api.Misfit{Member: "/properties/name", Reason: "is missing"}) {
			t.Errorf("%s: %+v", call, report)
		}
	}
	f.want(200, `"has_schema":true`, "GET", huts, "")
	if header, answer := f.edit(200, "GET", huts+"/schema", ""); header.Get(derivedHeader) != "" ||
		!strings.Contains(answer, `"maxLength":10`) {
		t.Errorf("set: %s", answer)
	}
	// Each way in.
	_, answer = f.edit(422, "POST", huts+"/items", hut("c", `{"name":"One","beds":-1}`))
	p := f.problem(answer)
	if p.Field != "/properties/beds" || p.Want != "at least 0" || len(p.Misfits) != 1 || p.Misfits[0].Reason != "is -1" {
		t.Errorf("the problem: %s", answer)
	}
	f.edit(422, "PUT", huts+"/items/c", hut("c", `{"name":"One","beds":1.5}`), ifMatch("*"))
	f.edit(422, "PATCH", hutA, `{"properties":{"name":"Another"}}`, ifMatch("*")) // beds are still a text
	f.edit(200, "PATCH", hutA, `{"properties":{"name":"Another","beds":2}}`, ifMatch("*"))
	f.edit(422, "PATCH", hutA, `{"geometry":{"type":"LineString","coordinates":[[0,0],[1,1]]}}`, ifMatch("*"))
	_, answer = f.edit(422, "POST", huts+"/changes", `{"edits":[
		{"op":"patch","id":"a","if_match":"*","patch":{"properties":{"beds":5}}},
		{"op":"create","feature":`+hut("c", `{"name":"Much too long"}`)+`}]}`)
	if p := f.problem(answer); len(p.Edits) != 2 || p.Edits[0].Status != 424 || len(p.Edits[1].Misfits) != 1 {
		t.Errorf("several: %s", answer)
	}
	f.edit(204, "DELETE", huts+"/items/b", "", ifMatch("*"))
	f.edit(422, "POST", "/api/changes/6/undo", "") // what was before the schema
	for path, want := range map[string]string{huts + "/import?dry_run=true": "GeoJSON", huts + "/import": ""} {
		_ = want
		for media, file := range map[string]string{
			"text/csv": "id,lat,lon,name,beds\nx,-38,-22,Good,2\ny,-38,-22,Bad,few\nz,-38,-22,Empty,\n",
			"application/geo+json": `{"type":"FeatureCollection","features":[` + hut("x", `{"name":"Good","beds":2}`) + `,` +
				hut("y", `{"name":"Bad","beds":"few"}`) + `,` + hut("z", `{"name":"Empty","beds":null}`) + `]}`,
		} {
			status, _, answer := f.call("POST", path, media, file)
			var r api.ImportReport
			if err := json.Unmarshal([]byte(answer), &r); err != nil || status != 200 {
				t.Fatalf("%s: %d %s", path, status, answer)
			}
			if r.Rejected != 1 || r.Rows != 3 ||
				!strings.Contains(r.Errors[0].Reason, `/properties/beds is a text; want a whole`) {
				t.Errorf("%s of %s: %s", path, media, answer)
			}
			if r.Import != "" {
				f.want(200, "few", "GET", "/api/imports/"+r.Import+"/rejected", "")
			}
		}
	}
	f.want(204, "", "DELETE", huts+"/schema", "")
	f.edit(200, "POST", "/api/changes/6/undo", "")
}

func TestSchemaIsRefused(t *testing.T) {
	f := withHuts(t)
	f.want(400, "refers to itself", "PUT", huts+"/schema", `{"properties":{"a":{"$ref":"#/properties/a"}}}`)
	f.want(400, "/properties/a/type", "POST", huts+"/schema/check", `{"properties":{"a":{"type":"text"}}}`)
	f.want(400, "is empty", "PUT", huts+"/schema", ``)
	f.want(404, "no collection", "PUT", "/api/collections/none/schema", `{}`)
	f.want(413, "", "PUT", huts+"/schema", `{"title":"`+strings.Repeat("x", 70_000)+`"}`)
	f.want(200, `"has_schema":false`, "GET", huts, "")
	header, _ := f.edit(200, "GET", huts+"/style", "")
	f.want(200, "", "PUT", huts+"/schema", `{}`)
	f.edit(412, "PUT", huts+"/schema", `{"title":"x"}`, ifMatch(header.Get("ETag")))
}

// TestColumnsAreReadAsTheSchemaWants: codes keep their zeros, dates become dates.
func TestColumnsAreReadAsTheSchemaWants(t *testing.T) {
	f := withHuts(t)
	f.want(200, "", "PUT", huts+"/schema", `{"properties":{"code":{"type":"string"},"open":{"type":"boolean"},
		"checked":{"type":"string","format":"date"}}}`)
	status, _, answer := f.call("POST", huts+"/import", "text/csv",
		"id,lat,lon,code,open,checked\nx,-38,-22,007,true,2026-04-12\ny,-38,-22,12,false,2026-12-31\nz,-38,-22,1,x,soon\n")
	if status != 200 || !strings.Contains(answer, `"rejected":1`) {
		t.Errorf("imported: %s", answer)
	}
	f.want(200, `{"code":"007","open":true,"checked":"2026-04-12"}`, "GET", huts+"/items/x", "")
}
