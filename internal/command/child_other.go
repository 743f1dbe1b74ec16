//go:build !linux

package command

import "syscall"

func endsWithUs() *syscall.SysProcAttr { return nil }
