package postgres

import (
	"os"
	"os/user"
	"strconv"
	"syscall"

	"oskeld.dev/oskeld/internal/core/fault"
)

// account is whom PostgreSQL's programs run as; the zero one is ourselves.
type account struct{ credential *syscall.Credential }

// serverAccount is the user "postgres" where we are root, as whom PostgreSQL does not run.
func serverAccount() (account, error) {
	if os.Geteuid() != 0 {
		return account{}, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return account{}, fault.Unavailable("the system has no user \"postgres\", and PostgreSQL does not run as root").
			Hint("apt-get install postgresql makes it")
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return account{&syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}, nil
}

// give makes a file the account's.
func (a account) give(path string) error {
	if a.credential == nil {
		return nil
	}
	return os.Chown(path, int(a.credential.Uid), int(a.credential.Gid))
}

// attributes start a process in a group of its own that ends when we end.
func (a account) attributes() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Credential: a.credential, Setpgid: true, Pdeathsig: syscall.SIGINT}
}
