package runner

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"
)

// Grace is how long a step may go on after TERM before everything it started is killed.
const Grace = 3 * time.Second

// process is one command with everything it starts.
type process struct {
	group *group
	ended chan struct{}
	err   error
}

// begin starts a command. out and errors receive its output, each from one goroutine.
func begin(cmd *exec.Cmd, marker string, out, errs io.Writer) (*process, error) {
	p := &process{group: newGroup(cmd, marker), ended: make(chan struct{})}
	outRead, outWrite, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	errRead, errWrite, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, outRead.Close(), outWrite.Close())
	}
	widen(outRead)
	widen(errRead)
	cmd.Stdout, cmd.Stderr = outWrite, errWrite
	err = cmd.Start()
	outWrite.Close()
	errWrite.Close()
	if err == nil {
		err = p.group.began(cmd.Process)
	}
	if err != nil {
		outRead.Close()
		errRead.Close()
		p.group.close()
		return nil, err
	}
	var readers sync.WaitGroup
	for r, w := range map[*os.File]io.Writer{outRead: out, errRead: errs} {
		readers.Go(func() {
			_, _ = io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{r}, make([]byte, 256<<10))
		})
	}
	go func() {
		p.err = cmd.Wait()
		p.group.kill() // a daemon left behind ends with its step
		done := make(chan struct{})
		go func() { readers.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(2 * time.Second): // somebody we could not find still holds the pipe
		}
		outRead.Close()
		errRead.Close()
		<-done
		p.group.close()
		close(p.ended)
	}()
	return p, nil
}

// markerName is the variable by which processes of a step are known where there is no cgroup.
const markerName = "OSKELD_ATTEMPT"

// wait waits for the end. When ctx ends first, the processes get TERM, and after the grace KILL.
func (p *process) wait(ctx context.Context) error {
	select {
	case <-p.ended:
		return p.err
	case <-ctx.Done():
	}
	p.group.end()
	select {
	case <-p.ended:
	case <-time.After(Grace):
		p.group.kill()
		<-p.ended
	}
	return p.err
}
