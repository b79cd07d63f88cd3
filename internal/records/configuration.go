package records

import (
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Configuration is what the nodes of a cluster have in common of their configuration, as they write it.
type Configuration struct {
	ID      int    `gorm:"primaryKey;autoIncrement:false" json:"-"` // always 1
	Version int64  `json:"version"`
	Text    []byte `json:"text"`
}

// Configuration returns the configuration of the cluster; with version 0 if it has none yet.
func (s *Store) Configuration() (c Configuration, err error) {
	return c, s.db().Limit(1).Find(&c).Error
}

// Configure replaces the configuration of a version. If another one has replaced it meanwhile, the error is
// [ErrExists].
func (s *Store) Configure(replaces int64, text []byte) error {
	return s.change(Change{Configure: &Configuration{Version: replaces + 1, Text: text}})
}

func (c *Configuration) put(tx *gorm.DB) error {
	var now Configuration
	if err := tx.Limit(1).Find(&now).Error; err != nil {
		return err
	}
	if now.Version+1 != c.Version {
		return ErrExists
	}
	return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&Configuration{1, c.Version, c.Text}).Error
}
