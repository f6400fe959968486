//go:build !linux

package disk

import (
	"errors"
	"os"
)

func exchange(*os.File, string, string) error { return errors.ErrUnsupported }
func place(*os.File, string, string) error    { return errors.ErrUnsupported }
func isWritten(*os.File) (is, known bool)     { return false, false }
