package ldif

import (
	"io"
)

// This file lets the cutting of records run ahead of their reading: on two processors a
// large export takes half the time. A small one is cut before anything is read.

const (
	aheadRecords = 32        // in a batch
	aheadBatches = 16        // cut and not yet read, at the most: either side may be slower for a while
	aheadText    = 256 << 10 // bytes of values that a record keeps room for
)

// batch is records that follow one another, and what came behind them.
type batch struct {
	records []*record
	err     error // io.EOF: nothing
}

// fillBatch cuts the next records.
func (s *scanner) fillBatch(b *batch) {
	for i := range aheadRecords {
		if i == len(b.records) {
			b.records = append(b.records, &record{path: s.path})
		} else if cap(b.records[i].text) > aheadText {
			b.records[i] = &record{path: s.path}
		}
		s.record = b.records[i]
		if b.err = s.next(); b.err != nil {
			b.records = b.records[:i]
			return
		}
		s.survey(&s.speller)
	}
}

// each hands out all records in their order. A record is good until the next is taken.
func (s *scanner) each(take func(*record) error) error {
	first := &batch{}
	s.fillBatch(first)
	if first.err != nil {
		return first.read(take)
	}
	cut, free, stop, stopped := make(chan *batch, aheadBatches), make(chan *batch, aheadBatches+1), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		defer close(cut)
		for {
			b := &batch{}
			select {
			case b = <-free:
			default:
			}
			s.fillBatch(b)
			select {
			case cut <- b:
			case <-stop:
				return
			}
			if b.err != nil {
				return
			}
		}
	}()
	err := first.read(take)
	for b := range cut {
		if err != nil {
			break
		}
		err = b.read(take)
		select {
		case free <- b:
		default: // there are enough
		}
	}
	close(stop)
	<-stopped
	return err
}

// read takes the batch's records, and returns what came behind them; nil: more.
func (b *batch) read(take func(*record) error) error {
	for _, r := range b.records {
		if err := take(r); err != nil {
			return err
		}
	}
	if b.err == io.EOF {
		return nil
	}
	return b.err
}
