package render

import (
	"fmt"
	"strings"
)

// Sandbox is a store that is served.
type Sandbox struct {
	Endpoint, Dir string
	// Environment are the settings, NAME=value, by which commands reach it.
	Environment []string
}

// Show tells of it in words.
func (s Sandbox) Show(to Screen) error {
	_, err := fmt.Fprintf(to.Writer, "serving %s at %s until it is stopped; other commands reach it with\n\n  export %s\n", s.Dir, s.Endpoint,
		strings.Join(s.Environment, " "))
	return err
}

// JSON is it for programs.
func (s Sandbox) JSON() any {
	environment := map[string]string{}
	for _, setting := range s.Environment {
		name, value, _ := strings.Cut(setting, "=")
		environment[name] = value
	}
	return struct {
		Endpoint    string            `json:"endpoint"`
		Dir         string            `json:"dir"`
		Environment map[string]string `json:"environment"`
	}{s.Endpoint, s.Dir, environment}
}
