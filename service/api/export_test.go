package api_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"oakbarrel/core/record"
	"oakbarrel/core/wire"
	"oakbarrel/service/access"
	"oakbarrel/service/model"
)

// What meets a search is saved as a file, whole or not at all, in each form.
func TestRecordsAreExported(t *testing.T) {
	f, ctx := newFixture(t), context.Background()
	records := some(2500)
	records[3].Text, records[3].App = []byte("=HYPERLINK(\"x\"), \"two\"\nlines"), []byte("@pumpd")
	head, payload := pack(1, records)
	if _, err := f.writer(f.agent(810)).SendBatch(ctx, f.agent(810), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	token, err := access.NewToken(db, f.cask, access.Read, "")
	if err != nil {
		t.Fatal(err)
	}
	get := func(query string) (*http.Response, []byte, error) {
		r, _ := http.NewRequest("GET", f.server.URL+"/api/v1/export?"+query, nil)
		r.Header.Set("Authorization", "Bearer "+token)
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer response.Body.Close()
		body, err := io.ReadAll(response.Body)
		return response, body, err
	}
	response, body, _ := get("")
	lines := bytes.Split(bytes.TrimSuffix(body, []byte("\n")), []byte("\n"))
	var r record.Record
	if len(lines) != 2500 || r.ParseJSON(lines[0]) != nil || string(r.Text) != "record 0" || response.Header.Get("Content-Disposition") != `attachment; filename="records.jsonl"` {
		t.Errorf("%d lines of JSON, %v", len(lines), response.Header)
	}
	response, body, _ = get("as=csv&order=newest&cask=" + f.cask)
	rows, err := csv.NewReader(bytes.NewReader(body)).ReadAll()
	if err != nil || len(rows) != 2501 || rows[0][7] != "text" || rows[1][7] != "record 2499" || !strings.Contains(response.Header.Get("Content-Disposition"), f.cask+".csv") {
		t.Errorf("%d rows, %v, %v", len(rows), response.Header, err)
	}
	if odd := rows[2500-3]; odd[7] != "'=HYPERLINK(\"x\"), \"two\"\nlines" || odd[4] != "'@pumpd" {
		t.Errorf("a spreadsheet would take %q for a formula", odd)
	}
	_, body, _ = get("as=rfc5424&where=text+has+word+7")
	parser := wire.Parser{}
	parser.Parse(&r, bytes.TrimSuffix(body, []byte("\n")))
	if string(r.Text) != "record 7" || r.Unparsed {
		t.Errorf("%q", body)
	}
	if response, body, err := get("where=text+has+word+nowhere&as=csv"); response.StatusCode != 200 || err != nil || !slices.Equal(strings.Split(string(body), ","), []string{"time", "severity", "facility", "host", "app", "procid", "msgid", "text", "fields\r\n"}) {
		t.Errorf("of nothing %q is made", body)
	}
	for query, status := range map[string]int{"as=pdf": 400, "where=shape": 400, "cask=nowhere": 404} {
		if response, _, _ := get(query); response.StatusCode != status {
			t.Errorf("%s: %d", query, response.StatusCode)
		}
	}
	head, payload = pack(2501, some(10))
	if _, err := f.writer(f.agent(810)).SendBatch(ctx, f.agent(810), "centre", f.cask, head, payload); err != nil {
		t.Fatal(err)
	}
	var b model.Block
	db.Order("id DESC").Take(&b)
	db.Model(&b).Update("payload", "x")
	defer db.Model(&model.Block{}).Where("id = ?", b.ID).Update("payload", b.Payload)
	if response, body, _ := get("order=oldest"); response.StatusCode != 500 || !strings.Contains(string(body), "a block is damaged") {
		t.Errorf("with a damaged block the answer is %d, %s", response.StatusCode, body)
	}
}
