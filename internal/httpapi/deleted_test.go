package httpapi

import (
	"encoding/json"
	"fmt"
	"testing"

	"idlebeacon/api"
)

func TestDeletedCollections(t *testing.T) {
	f := withHuts(t)
	f.edit(201, "POST", huts+"/items", hut("a", `{"name":"One"}`))
	f.want(200, `"history_days":30`, "PATCH", huts, `{"history_days":30}`)
	f.want(400, "history_days", "PATCH", huts, `{"history_days":-1}`)
	f.want(204, "", "DELETE", huts, "")
	f.want(404, "", "GET", huts, "")
	var list api.DeletedCollections
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/deleted", "")), &list); err != nil {
		t.Fatal(err)
	}
	if len(list.Deleted) != 1 || list.Deleted[0].ID != "huts" || list.Deleted[0].Items != 1 ||
		!list.Deleted[0].Until.After(list.Deleted[0].At) {
		t.Fatalf("deleted: %+v", list)
	}
	at := fmt.Sprintf("/api/deleted/%d", list.Deleted[0].Change)
	f.want(400, "id", "POST", at+"/restore", `{"id":"No"}`)
	f.want(404, "deleted collection", "POST", "/api/deleted/77/restore", "")
	f.want(201, `"history_days":30`, "POST", at+"/restore", "")
	f.want(200, `"name":"One"`, "GET", hutA, "")
	f.want(204, "", "DELETE", huts, "")
	if err := json.Unmarshal([]byte(f.want(200, "", "GET", "/api/deleted", "")), &list); err != nil {
		t.Fatal(err)
	}
	at = fmt.Sprintf("/api/deleted/%d", list.Deleted[0].Change)
	f.want(204, "", "DELETE", at, "")
	f.want(404, "", "DELETE", at, "")
	f.want(404, "", "DELETE", "/api/deleted/x", "")
}
