package main

import (
	"context"
	"fmt"
	"os"

	"victualler/internal/lab"
)

func main() {
	fmt.Println(lab.EnsureBase(context.Background(), lab.CacheDir(), func(s string) { fmt.Fprintln(os.Stderr, s) }))
}
