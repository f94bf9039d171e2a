package terminal

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"gentlepiston.example/piston/disk"
)

// Settings is what sign-in keeps for the commands that follow.
type Settings struct {
	Server string `json:"server"`
	Token  string `json:"token"`
}

// SettingsPath is the file of the settings: PISTON_CONFIG, or piston/client.json in the user's configuration folder.
func SettingsPath() (string, error) {
	if p := os.Getenv("PISTON_CONFIG"); p != "" {
		return p, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no place for settings: %w; set PISTON_CONFIG to a file", err)
	}
	return filepath.Join(dir, "piston", "client.json"), nil
}

func LoadSettings() (s Settings, err error) {
	path, err := SettingsPath()
	if err != nil {
		return s, err
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	if err := json.Unmarshal(text, &s); err != nil {
		return s, fmt.Errorf("%s is damaged: %w; sign in again", path, err)
	}
	return s, nil
}

// SaveSettings writes a file only its owner can read: it holds a token.
func SaveSettings(path string, s Settings) error {
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteOwn(path, append(text, '\n'))
}
