package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// config is what the command line keeps in the user's configuration directory.
type config struct {
	Address string `json:"address"`
	Token   string `json:"token"`
}

func configPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("there is no configuration directory: %w", err)
	}
	return filepath.Join(dir, "dowse", "config.json"), nil
}

func loadConfig() (config, error) {
	var c config
	path, err := configPath()
	if err != nil {
		return c, nil // without a home the flags and the environment must do
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &c)
	}
	if err != nil {
		return c, fmt.Errorf("the configuration %s cannot be read: %w", path, err)
	}
	return c, nil
}

// save writes the configuration for its owner alone, all or nothing.
func (c config) save() (string, error) {
	path, err := configPath()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	text, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return "", err
	}
	tmp, err := os.CreateTemp(filepath.Dir(path), ".config-*") // made with mode 0600
	if err != nil {
		return "", err
	}
	defer os.Remove(tmp.Name())
	if _, err := tmp.Write(append(text, '\n')); err != nil {
		tmp.Close()
		return "", err
	}
	if err := tmp.Close(); err != nil {
		return "", err
	}
	return path, os.Rename(tmp.Name(), path)
}
