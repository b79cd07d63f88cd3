package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/engine"
	"tovik.example/tovik/internal/presence"
)

// savedFile is what holds the sessions of a realm of a service that was stopped, in its
// data directory, until it starts again.
func savedFile(dir, realm string) string {
	if realm == access.Main {
		return filepath.Join(dir, "sessions.json")
	}
	return filepath.Join(dir, "sessions."+realm+".json")
}

// restore takes over what the last stop has left in dir. It is taken once: of a
// service that ends without a stop, nothing older may come back.
func restore(e *engine.Engine, dir, realm string) (sessions int, err error) {
	path := savedFile(dir, realm)
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	var saved presence.Saved
	if err := json.Unmarshal(text, &saved); err != nil {
		return 0, fmt.Errorf("%s cannot be read (delete it to start without the sessions that it holds): %w", path, err)
	}
	if err := e.Restore(saved); err != nil {
		return 0, fmt.Errorf("%s (delete it to start without the sessions that it holds): %w", path, err)
	}
	return len(saved.Sessions), os.Remove(path)
}

// save leaves the sessions for the next start. They are written aside and renamed, so
// that no start finds half of them.
func save(e *engine.Engine, dir, realm string) error {
	text, err := json.Marshal(e.Save())
	if err != nil {
		return err
	}
	temp, err := os.CreateTemp(dir, ".sessions-*")
	if err != nil {
		return fmt.Errorf("the sessions cannot be saved: %w", err)
	}
	_, err = temp.Write(text)
	if err := errors.Join(err, temp.Sync(), temp.Close()); err != nil {
		return fmt.Errorf("the sessions cannot be saved: %w", err)
	}
	return os.Rename(temp.Name(), savedFile(dir, realm))
}
