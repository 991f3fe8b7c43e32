package audit

import (
	"encoding/json"

	"rotanex.example/api"
)

func record(r Record) api.AuditRecord {
	out := api.AuditRecord{Id: r.ID, At: r.At.UTC(), Who: r.Who, Role: r.Role, From: r.Origin, Did: r.Did, About: r.About}
	_ = json.Unmarshal(r.Before, &out.Before) // what cannot be read is not there
	_ = json.Unmarshal(r.After, &out.After)
	return out
}
