// Package staging lets a program read its configuration as it would be, at its
// real paths, while the files in use stay untouched.
//
// A child process in a mount namespace of its own lays the staged files over
// the directories they are for (an overlay without a writable layer, so nothing can reach what lies
// beneath) and then becomes the program. The program's messages therefore name
// the very paths an administrator will look at.
package staging

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"victualler/internal/render"
)

// Change is a file that is to be written, or removed where File is nil.
type Change struct {
	Path string
	File *render.File
}

// helperName is the argument under which the agent's executable is this
// package's child process.
const helperName = "staged-run"

// A child begins before other packages of the program are initialised, which takes long.
func init() {
	if os.Args[0] == helperName {
		runtime.LockOSThread()
		fmt.Fprintln(os.Stderr, becomeProgram())
		os.Exit(125)
	}
}

// Run runs a command that sees the changes as if they had been made, and
// returns what it printed. Scratch is a directory of the agent's own, best in memory.
func Run(ctx context.Context, scratch string, changes []Change, argv ...string) (string, error) {
	return RunAlone(ctx, scratch, nil, changes, argv...)
}

// RunAlone is [Run] where some directories hold nothing but what is staged for them.
func RunAlone(ctx context.Context, scratch string, alone []string, changes []Change, argv ...string) (string, error) {
	dir, err := os.MkdirTemp(scratch, "staged-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(dir)
	overlays, err := writeLayers(dir, changes)
	if err != nil {
		return "", err
	}
	for _, target := range alone {
		if overlays[target] != "" {
			continue
		}
		overlays[target] = filepath.Join(dir, fmt.Sprint(len(overlays)))
		if err := errors.Join(os.MkdirAll(target, 0o755), os.Mkdir(overlays[target], 0o755)); err != nil {
			return "", err
		}
	}
	request, err := json.Marshal(helperRequest{Overlays: overlays, Alone: alone, Argv: argv})
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(ctx, "/proc/self/exe")
	cmd.Args = []string{helperName}
	cmd.Env = append(os.Environ(), "STAGED_RUN="+string(request))
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNS}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	return out.String(), err
}

type helperRequest struct {
	// Overlays maps a directory to the layer laid over it.
	Overlays map[string]string
	// Alone are those that are hidden by their layer, and not seen through it.
	Alone []string
	Argv  []string
}

// writeLayers writes one layer for each directory that has changes. A removed
// file is hidden by an empty one, which every program reads as no configuration;
// a layer cannot hold a real removal where it lies on an overlay itself.
func writeLayers(dir string, changes []Change) (map[string]string, error) {
	overlays := map[string]string{}
	for _, change := range changes {
		target := filepath.Dir(change.Path)
		layer, known := overlays[target]
		if !known {
			if err := os.MkdirAll(target, 0o755); err != nil { // an overlay needs something to lie on
				return nil, err
			}
			layer = filepath.Join(dir, fmt.Sprint(len(overlays)))
			if err := os.Mkdir(layer, 0o755); err != nil {
				return nil, err
			}
			overlays[target] = layer
		}
		content, mode := "", os.FileMode(0o644)
		if change.File != nil {
			content, mode = change.File.Content, change.File.Mode
		}
		if err := os.WriteFile(filepath.Join(layer, filepath.Base(change.Path)), []byte(content), mode); err != nil {
			return nil, err
		}
	}
	return overlays, nil
}

func becomeProgram() error {
	var request helperRequest
	if err := json.Unmarshal([]byte(os.Getenv("STAGED_RUN")), &request); err != nil {
		return err
	}
	os.Unsetenv("STAGED_RUN")
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("stage: make mounts private: %w", err)
	}
	var targets []string
	for target := range request.Overlays {
		targets = append(targets, target)
	}
	sort.Strings(targets)
	for _, target := range targets {
		if slices.Contains(request.Alone, target) {
			if err := unix.Mount(request.Overlays[target], target, "", unix.MS_BIND, ""); err != nil {
				return fmt.Errorf("stage %s: %w", target, err)
			}
			continue
		}
		layers := "lowerdir=" + escape(request.Overlays[target]) + ":" + escape(target)
		if err := unix.Mount("overlay", target, "overlay", unix.MS_RDONLY, layers); err != nil {
			return fmt.Errorf("stage %s: %w", target, err)
		}
	}
	path, err := exec.LookPath(request.Argv[0])
	if err != nil {
		return err
	}
	return syscall.Exec(path, request.Argv, os.Environ())
}

// escape writes a path for overlay's options, where colons and commas part.
func escape(path string) string {
	return strings.NewReplacer(`\`, `\\`, ":", `\:`, ",", `\,`).Replace(path)
}
