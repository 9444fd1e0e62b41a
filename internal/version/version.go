// Package version holds the version all programs are built as.
package version

// Version is set by the build (-ldflags "-X victualler/internal/version.Version=…").
var Version = "development"
