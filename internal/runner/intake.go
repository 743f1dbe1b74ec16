package runner

import (
	"fmt"
	"os"
	"slices"
	"sync"
	"time"
)

// Bounds of an intake. A step waits while it has printed more than memory and file hold.
const (
	intakeMemory = 1 << 20   // bytes
	intakeFile   = 256 << 20 // bytes
	intakeTake   = 256 << 10 // bytes of the file that are handled at a time
	intakePause  = 50 * time.Millisecond
)

// intake holds what a step has printed until it is masked, split and packed, which takes longer than
// printing may: in memory, and what is more than that in a file, all in the order in which it came.
type intake struct {
	dir  string // for the file
	log  *runLog
	ends chan struct{} // closed when nothing comes any more
	done chan struct{} // closed when all has been handled

	mu      sync.Mutex
	changed sync.Cond // on mu
	memory  pile      // came before what is in the file
	file    *os.File  // nil until there is too much for memory
	inFile  pile      // of which bytes holds nothing
	size    int64     // to where the file is written
	taken   int64     // to where it has been taken
	broken  bool      // the file took no more: wait for memory
	came    int64     // bytes, all in all
	dropped bool      // nobody wants the rest
}

// pile is printed text: a piece is what came at once from one stream.
type pile struct {
	bytes  []byte
	pieces []piece
}

type piece struct {
	from  *stream
	at    time.Duration
	bytes int
}

func (p *pile) add(from *stream, at time.Duration, bytes int) {
	if n := len(p.pieces); n > 0 && p.pieces[n-1].from == from && at-p.pieces[n-1].at < time.Millisecond && p.pieces[n-1].bytes+bytes <= intakeTake {
		p.pieces[n-1].bytes += bytes
		return
	}
	p.pieces = append(p.pieces, piece{from, at, bytes})
}

// newIntake begins to handle what comes; the caller closes it.
func newIntake(dir string, log *runLog) *intake {
	i := &intake{dir: dir, log: log, ends: make(chan struct{}), done: make(chan struct{})}
	i.changed.L = &i.mu
	go i.handle()
	return i
}

// intakeWriter is where one of a step's two outputs goes.
type intakeWriter struct {
	*intake
	from *stream
}

// Write holds a copy of p. It never fails, and waits only for room.
func (w intakeWriter) Write(p []byte) (int, error) {
	at := time.Since(w.log.began) // once for all lines that come at once: a clock costs more than a line
	w.mu.Lock()
	defer w.mu.Unlock()
	w.came += int64(len(p))
	for !w.dropped && !w.hold(w.from, at, p) {
		w.changed.Wait()
	}
	w.changed.Broadcast()
	return len(p), nil
}

// hold puts p into memory, or into the file as long as that holds anything; false where there is no room.
func (i *intake) hold(from *stream, at time.Duration, p []byte) bool {
	spilled := i.taken < i.size
	if !spilled && (len(i.memory.bytes) == 0 || len(i.memory.bytes)+len(p) <= intakeMemory) {
		i.memory.bytes = append(i.memory.bytes, p...)
		i.memory.add(from, at, len(p))
		return true
	}
	if i.broken || i.size+int64(len(p)) > intakeFile {
		return false
	}
	if i.file == nil {
		if i.file, _ = os.CreateTemp(i.dir, "printed-"); i.file != nil {
			os.Remove(i.file.Name()) // what is printed may hold secrets: nothing is to find it; Windows keeps it until the end
		}
	}
	if _, err := i.file.WriteAt(p, i.size); err != nil { // also of no file
		i.broken = true
		return false
	}
	i.size += int64(len(p))
	i.inFile.add(from, at, len(p))
	return true
}

// handle masks, splits and packs what comes, until the intake is closed. While more comes than it can
// handle in the time it rests now and then: the step is to have the processors, and a follower is behind anyway.
func (i *intake) handle() {
	defer close(i.done)
	var p pile
	for {
		came, more := i.take(&p)
		if !more {
			return
		}
		rest := p.bytes
		for _, piece := range p.pieces {
			piece.from.write(piece.at, rest[:piece.bytes])
			rest = rest[piece.bytes:]
		}
		i.mu.Lock()
		outrun := i.taken < i.size && i.came-came > int64(len(p.bytes))
		if i.log.full() {
			i.drop()
		}
		i.mu.Unlock()
		if outrun {
			select {
			case <-i.ends:
			case <-time.After(intakePause):
			}
		}
	}
}

// take waits for something to handle, and gives it in place of what p was; false when there is no more. It
// also tells how much has come so far.
func (i *intake) take(p *pile) (came int64, more bool) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for {
		switch {
		case len(i.memory.bytes) > 0:
			*p, i.memory = i.memory, pile{p.bytes[:0], p.pieces[:0]}
			i.changed.Broadcast()
			return i.came, true
		case i.taken < i.size:
			i.takeFile(p)
			return i.came, true
		}
		select {
		case <-i.ends:
			return i.came, false
		default:
			i.changed.Wait()
		}
	}
}

// takeFile reads the oldest pieces of the file, and begins it anew after the last one.
func (i *intake) takeFile(p *pile) {
	n, bytes := 0, 0
	for ; n < len(i.inFile.pieces) && bytes < intakeTake; n++ {
		bytes += i.inFile.pieces[n].bytes
	}
	p.pieces = append(p.pieces[:0], i.inFile.pieces[:n]...)
	i.inFile.pieces = i.inFile.pieces[n:]
	p.bytes = slices.Grow(p.bytes[:0], bytes)[:bytes]
	if _, err := i.file.ReadAt(p.bytes, i.taken); err != nil {
		text := fmt.Sprintf("— %d bytes that were printed here could not be read back: %v —\n", bytes, err)
		p.bytes, p.pieces = []byte(text), []piece{{p.pieces[0].from, p.pieces[0].at, len(text)}}
	}
	if i.taken += int64(bytes); i.taken == i.size {
		i.emptyFile()
	}
}

// emptyFile begins the file anew.
func (i *intake) emptyFile() {
	i.taken, i.size, i.broken, i.inFile.pieces = 0, 0, false, nil
	if i.file != nil {
		_ = i.file.Truncate(0)
	}
	i.changed.Broadcast()
}

// drop forgets what has not been handled, and all that comes.
func (i *intake) drop() {
	i.dropped, i.memory = true, pile{}
	i.emptyFile()
}

// close waits until all has been handled; nothing is written afterwards. Once lost is closed nobody wants
// what has not been handled.
func (i *intake) close(lost <-chan struct{}) {
	i.mu.Lock()
	close(i.ends)
	i.changed.Broadcast()
	i.mu.Unlock()
	select {
	case <-i.done:
	case <-lost:
		i.mu.Lock()
		i.drop()
		i.mu.Unlock()
		<-i.done
	}
	if i.file != nil {
		i.file.Close()
		os.Remove(i.file.Name())
	}
}
