//go:build !unix

package content

import "errors"

func mkfifo(string, uint32) error { return errors.ErrUnsupported }
