package fetch

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"os"
)

// blockJobs is how many jobs a queue keeps in memory at either end.
const blockJobs = 2048

// queue is a queue of jobs, first in, first out. The middle of a long one lies in a
// temporary file.
type queue struct {
	head, tail []Job
	taken      int // of head
	file       *os.File
	begin, end int64   // of what stands in the file and was not read yet
	blocks     []block // of it
	waiting    int
	memory     bool // the file cannot be written: all stays in memory
}

// block is a run of jobs in the file.
type block struct {
	jobs int
	size int64
}

// push takes up a job as the last.
func (q *queue) push(j Job) {
	q.waiting++
	q.tail = append(q.tail, j)
	switch {
	case len(q.tail) < blockJobs || q.memory:
	case q.taken == len(q.head) && len(q.blocks) == 0:
		q.head, q.tail, q.taken = q.tail, q.head[:0], 0
	default:
		q.spill()
	}
}

// spill writes the tail to the file. Where that fails, everything stays in memory.
func (q *queue) spill() {
	if q.file == nil {
		f, err := os.CreateTemp("", "trimlantern-queue-")
		if err != nil {
			q.memory = true
			return
		}
		_ = os.Remove(f.Name()) // it lives as long as it is open; where that cannot be, close removes it
		q.file = f
	}
	w := &counter{w: io.NewOffsetWriter(q.file, q.end)}
	out := bufio.NewWriterSize(w, 64<<10)
	lines := json.NewEncoder(out)
	for _, j := range q.tail {
		if err := lines.Encode(j); err != nil {
			q.memory = true
			return
		}
	}
	if err := out.Flush(); err != nil {
		q.memory = true
		return
	}
	q.end += w.n
	q.blocks = append(q.blocks, block{len(q.tail), w.n})
	q.tail = q.tail[:0]
}

// counter counts what is written.
type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// pop takes the first job. It fails where the file cannot be read back.
func (q *queue) pop() (Job, error) {
	if q.taken == len(q.head) {
		if err := q.refill(); err != nil {
			return Job{}, err
		}
	}
	j := q.head[q.taken]
	q.head[q.taken] = Job{}
	q.taken++
	q.waiting--
	return j, nil
}

// refill makes what comes next the head: a block of the file, or the tail.
func (q *queue) refill() error {
	q.taken = 0
	if len(q.blocks) == 0 {
		q.head, q.tail = q.tail, q.head[:0]
		return nil
	}
	next := q.blocks[0]
	lines := json.NewDecoder(bufio.NewReaderSize(io.NewSectionReader(q.file, q.begin, next.size), 64<<10))
	q.head = q.head[:0]
	for range next.jobs {
		var j Job
		if err := lines.Decode(&j); err != nil {
			return errors.Join(errors.New("what waits to be fetched cannot be read back"), err)
		}
		q.head = append(q.head, j)
	}
	q.blocks, q.begin = q.blocks[1:], q.begin+next.size
	if len(q.blocks) == 0 {
		q.begin, q.end = 0, 0 // the file is used anew
	}
	return nil
}

// close gives the file up.
func (q *queue) close() {
	if q.file != nil {
		q.file.Close()
		_ = os.Remove(q.file.Name()) // gone already where an open file can be removed
		q.file = nil
	}
}
