package records

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"gorm.io/gorm"
)

// Compare compares the records of two data directories, which must be at the same position of a
// cluster's log: table by table, with a finding for each. It changes nothing.
func Compare(ctx context.Context, dir, other string) (findings []Finding, err error) {
	path, otherPath := filepath.Join(dir, File), filepath.Join(other, File)
	for _, p := range []string{path, otherPath} {
		if _, err := os.Stat(p); err != nil {
			return nil, fmt.Errorf("there are no records in %s: %w", filepath.Dir(p), err)
		}
	}
	s := &Store{path: path}
	db, err := s.connect("&mode=ro", 1)
	if err != nil {
		return nil, hint(err)
	}
	defer closeDB(db)
	err = db.WithContext(ctx).Connection(func(db *gorm.DB) error {
		if err := db.Exec("ATTACH ? AS other", "file:"+otherPath+"?mode=ro").Error; err != nil {
			return hint(err)
		}
		defer db.Exec("DETACH other")
		position, err := comparePositions(db, dir, other)
		if err != nil {
			return err
		}
		findings = append(findings, position)
		var tables []string
		if err := db.Raw("SELECT name FROM main.sqlite_master WHERE type = 'table' AND name <> 'log' AND name NOT LIKE 'sqlite%' ORDER BY name").Scan(&tables).Error; err != nil {
			return err
		}
		for _, table := range tables {
			f, err := compareTable(db, table, dir, other)
			if err != nil {
				return err
			}
			findings = append(findings, f)
		}
		return nil
	})
	return findings, err
}

// comparePositions returns an error if two files cannot be compared.
func comparePositions(db *gorm.DB, dir, other string) (Finding, error) {
	positions := map[string]Position{}
	for database, dir := range map[string]string{"main": dir, "other": other} {
		var known int
		var p Position
		err := db.Raw("SELECT count(*) FROM " + database + ".sqlite_master WHERE name = 'log'").Scan(&known).Error
		if err == nil && known > 0 {
			err = db.Raw("SELECT log, sequence, hash FROM " + database + ".log").Scan(&p).Error
		}
		if err != nil {
			return Finding{}, hint(err)
		}
		if p.Log == "" {
			return Finding{}, fmt.Errorf("the records in %s are not those of a cluster: only nodes of one cluster have equal records", dir)
		}
		positions[database] = p
	}
	here, there := positions["main"], positions["other"]
	switch {
	case here.Log != there.Log:
		return Finding{}, fmt.Errorf("%s and %s are of different clusters, with the logs %s and %s", dir, other, here.Log, there.Log)
	case here.Sequence < there.Sequence:
		return Finding{}, errors.New(behind(dir, there.Sequence-here.Sequence))
	case here.Sequence > there.Sequence:
		return Finding{}, errors.New(behind(other, here.Sequence-there.Sequence))
	case !bytes.Equal(here.Hash, there.Hash):
		return Finding{What: "position in the log", Wrong: true, Detail: fmt.Sprintf("record %d differs, or one before it", here.Sequence)}, nil
	}
	return Finding{What: "position in the log", Number: int64(here.Sequence)}, nil
}

func behind(dir string, records uint64) string {
	return fmt.Sprintf("%s is behind by %d records of the log: compare the two at the same position, best when both nodes have stopped", dir, records)
}

func compareTable(db *gorm.DB, table, dir, other string) (Finding, error) {
	var only struct{ Here, There, Rows int64 }
	err := db.Raw(fmt.Sprintf(`SELECT (SELECT count(*) FROM (SELECT * FROM main.%[1]s EXCEPT SELECT * FROM other.%[1]s)) AS here,
		(SELECT count(*) FROM (SELECT * FROM other.%[1]s EXCEPT SELECT * FROM main.%[1]s)) AS there, (SELECT count(*) FROM main.%[1]s) AS rows`, table)).Scan(&only).Error
	if err != nil {
		return Finding{}, hint(err)
	}
	if only.Here+only.There > 0 {
		return Finding{What: "equal rows of " + table, Wrong: true, Detail: fmt.Sprintf("%d only in %s, %d only in %s", only.Here, dir, only.There, other)}, nil
	}
	return Finding{What: "equal rows of " + table, Number: only.Rows}, nil
}
