//go:build !linux

package postgres

import "syscall"

// account is whom PostgreSQL's programs run as: ourselves.
type account struct{}

func serverAccount() (account, error) { return account{}, nil }

func (account) give(string) error { return nil }

func (account) attributes() *syscall.SysProcAttr { return nil }
