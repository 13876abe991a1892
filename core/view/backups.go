package view

import "time"

// Backup is the configuration of a host as a round kept it.
type Backup struct {
	Host  string    `json:"host"`
	Round string    `json:"round"`
	Began time.Time `json:"began"` // the round
	Taken time.Time `json:"taken"`
	Size  int64     `json:"size"` // in bytes
	File  string    `json:"file"`
}

// OfBackups are copies of configurations.
func OfBackups(all []Backup) Document {
	d := List("backups", all, Columns("host", "taken", "round", "size", "file"), func(b *Backup) []any {
		return []any{b.Host, b.Taken, b.Round, Bytes(b.Size), b.File}
	})
	d.Table.Empty = "none is kept: a round keeps the configuration of a host before its first change"
	return d
}
