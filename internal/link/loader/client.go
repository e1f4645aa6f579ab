package loader

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strconv"
	"sync"
	"time"

	"jarlid/internal/core/image/parttable"
	"jarlid/internal/link"
)

// Stream is what a loader is reached over: a connection, or a serial line.
type Stream interface {
	io.ReadWriteCloser
	SetReadDeadline(time.Time) error
}

// Keeper is a Stream that loses what is sent to it while nobody reads, beyond so many bytes.
type Keeper interface{ Keeps() int }

const (
	// answerLimit is how long a loader may take to say anything to an order; Working counts.
	answerLimit = 3 * time.Second
	// tries is how often an order is sent when nothing, or nothing whole, comes back: a computer that is
	// busy, or a word about long work that was lost, is no end. Of a hello fewer do: nobody may be there.
	tries      = 10
	helloTries = 4
	// workLimit is how long a loader may work without a word that it does.
	workLimit = 30 * time.Second
	// leastPiece is the smallest piece that is asked for or sent: what every loader takes. A line that
	// loses a piece whole has smaller ones, each time an eighth.
	leastPiece = leastPayload - dataHead
	lessBy     = 8
)

// Client is the computer's side. One order at a time.
type Client struct {
	s      Stream
	r      *Reader
	mu     sync.Mutex
	number uint32
	most   int // of a payload
	// reads and writes are how large pieces are, each way, in bytes: as large as the line lets through.
	reads, writes int64
	// Told are the loader's words about itself, from its hello.
	Told Fields
	// Progress is told of work that goes on at the loader, in per cent; -1 where it does not say.
	Progress func(percent int, text string)
}

// RefusedError is an order that the loader did not carry out.
type RefusedError struct {
	Order Kind
	Code  string
	Text  string
}

// refusedWords say for a person what an order was for.
var refusedWords = map[Kind]string{Hello: "to talk", Facts: "to tell of the phone",
	Table: "its table of partitions",
	Read:  "to be read",
	Begin: "the image",
	Data:  "the image",
	End:   "the image",
	Erase: "to erase",
	Leave: "to be left"}

// Error says why.
func (e *RefusedError) Error() string {
	what, ok := refusedWords[e.Order]
	if !ok {
		what = e.Order.String()
	}
	return fmt.Sprintf("the loader refuses %s: %s (%s)", what, e.Text, e.Code)
}

// As lets it be what package link calls a refusal.
func (e *RefusedError) As(target any) bool {
	r, ok := target.(**link.RefusedError)
	if ok {
		*r = &link.RefusedError{Command: e.Order.String(), Message: e.Text}
	}
	return ok
}

// Connect says hello. Bytes that come before its answer are passed over. Errors: *link.LostError where
// nobody answers, *link.ProtocolError where something else does, *RefusedError for a version.
func Connect(ctx context.Context, s Stream, program string) (*Client, error) {
	c := &Client{s: s, r: NewReader(s, mostPayload), most: leastPayload}
	b, err := c.order(ctx, Hello, Fields{
		"program": program,
		"least":   "1",
		"most":    strconv.Itoa(Version),
		"payload": strconv.Itoa(mostPayload),
	}.Encode(), nil)
	if err != nil {
		return nil, err
	}
	told := Legible(b)
	if v, err := strconv.Atoi(told["version"]); err != nil || v < 1 || v > Version {
		return nil, &link.ProtocolError{Protocol: "loader protocol",
			What: fmt.Sprintf("answers in version %q, and was asked for 1 to %d", told["version"], Version)}
	}
	n, err := strconv.Atoi(told["payload"])
	if err != nil || n < leastPayload {
		return nil, &link.ProtocolError{Protocol: "loader protocol",
			What: fmt.Sprintf("takes payloads of %q bytes; every loader takes %d", told["payload"],
				leastPayload)}
	}
	c.most, c.Told = min(n, mostPayload), told
	c.reads, c.writes = int64(c.most-dataHead), int64(c.most-dataHead)
	if k, ok := s.(Keeper); ok {
		c.reads = max(min(c.reads, int64(k.Keeps()-headSize-sumSize-dataHead)), leastPiece)
	}
	return c, nil
}

// Close closes the stream.
func (c *Client) Close() error { return c.s.Close() }

// ask sends an order and reads the fields of its answer.
func (c *Client) ask(ctx context.Context, k Kind, payload []byte) (Fields, error) {
	b, err := c.order(ctx, k, payload, nil)
	if err != nil {
		return nil, err
	}
	f, err := ParseFields(b)
	if err != nil {
		return nil, &link.ProtocolError{Protocol: "loader protocol", What: "answers what can't be read: " +
			err.Error()}
	}
	return f, nil
}

// order sends one and waits for its outcome. Nothing, or nothing whole, coming back within
// answerLimit has it sent again: a loader that has carried it out answers by the number as before.
func (c *Client) order(ctx context.Context, k Kind, payload []byte, piece func([]byte) error) ([]byte,
	error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.number++
	out := Frame{k, c.number, payload}.Append(nil)
	times := tries
	switch {
	case k == Hello:
		times = helloTries
	case k == Data && c.writes > leastPiece:
		times = 2 // a smaller one is tried next
	}
	for try := 0; ; try++ {
		if err := c.send(ctx, out); err != nil {
			return nil, err
		}
		b, err := c.answer(ctx, k, piece)
		if !errors.Is(err, link.ErrSilent) {
			return b, err
		}
		if try+1 >= times || piece != nil && k == Read {
			return nil, link.Lost("an answer", link.ErrSilent)
		}
	}
}

func (c *Client) send(ctx context.Context, b []byte) error {
	done := make(chan struct{})
	defer close(done)
	stop := context.AfterFunc(ctx, func() {
		select {
		case <-done:
		default:
			c.s.Close() // what is half sent can't be taken back
		}
	})
	defer stop()
	if _, err := c.s.Write(b); err != nil {
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return link.Lost("sending", err)
	}
	return nil
}

// answer reads until the order's outcome.
func (c *Client) answer(ctx context.Context, k Kind, piece func([]byte) error) ([]byte, error) {
	stop := context.AfterFunc(ctx, func() { _ = c.s.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	end := time.Now().Add(answerLimit)
	for {
		if err := ctx.Err(); err != nil {
			return nil, link.Lost("an answer", err)
		}
		_ = c.s.SetReadDeadline(end)
		f, err := c.r.Next()
		if ctx.Err() != nil {
			return nil, link.Lost("an answer", ctx.Err())
		}
		switch {
		case errors.Is(err, ErrNoise):
			return nil, &link.ProtocolError{Protocol: "loader protocol", What: err.Error()}
		case late(err):
			return nil, link.ErrSilent
		case err != nil:
			return nil, link.Lost("an answer", err)
		}
		if f.Number != c.number {
			continue // an answer that comes twice, to an order before
		}
		switch f.Kind {
		case Done:
			return append([]byte(nil), f.Payload...), nil
		case Failed:
			w := Legible(f.Payload)
			return nil, &RefusedError{k, cmp.Or(w["code"], "unknown"),
				cmp.Or(w["text"], "it does not say why")}
		case Working:
			end = time.Now().Add(workLimit)
			if c.Progress != nil {
				w := Legible(f.Payload)
				n, err := strconv.Atoi(w["percent"])
				if err != nil || n < 0 || n > 100 {
					n = -1
				}
				c.Progress(n, w["text"])
			}
		case Piece:
			if piece == nil {
				return nil, &link.ProtocolError{Protocol: "loader protocol",
					What: "sends bytes nobody asked for"}
			}
			if err := piece(f.Payload); err != nil {
				return nil, err
			}
			end = time.Now().Add(answerLimit)
		}
	}
}

// ifTold sends an order that a loader may refuse, and has told nothing then.
func (c *Client) ifTold(ctx context.Context, k Kind) ([]byte, error) {
	b, err := c.order(ctx, k, nil, nil)
	var refused *RefusedError
	if errors.As(err, &refused) {
		return nil, nil
	}
	return b, err
}

// Facts are what the loader reports of the phone; none where it refuses to tell, since all may be missing.
func (c *Client) Facts(ctx context.Context) (Fields, error) {
	b, err := c.ifTold(ctx, Facts)
	return Legible(b), err
}

// Ping asks whether the loader is there. Errors: those of the line; any answer will do.
func (c *Client) Ping(ctx context.Context) error {
	_, err := c.ifTold(ctx, Ping)
	return err
}

// Table gives the table of partitions; an empty one where it refuses to tell.
func (c *Client) Table(ctx context.Context) ([]parttable.Partition, error) {
	b, err := c.ifTold(ctx, Table)
	if err != nil {
		return nil, err
	}
	list, err := parttable.Parse(b)
	if err != nil {
		return nil, &link.ProtocolError{Protocol: "loader protocol",
			What: "has a table that can't be read: " + err.Error()}
	}
	return list, nil
}

// Read gives out n bytes of a partition from off on. What is lost on the way is asked for again. While
// one piece is given out, the next is fetched.
func (c *Client) Read(ctx context.Context, partition string, off, n int64, w io.Writer) (int64, error) {
	var mem [2][]byte
	given, asked := int64(0), int64(0)
	giving := make(chan error, 1)
	giving <- nil
	last := int64(0) // of the piece that is given out
	taken := func() error {
		err := <-giving
		if err == nil {
			given += last
		}
		last = 0
		return err
	}
	for try, turn := 0, 0; asked < n; {
		part := min(n-asked, c.reads)
		b, err := c.piece(ctx, partition, off+asked, part, mem[turn])
		var lost *link.LostError
		if errors.As(err, &lost) && try < tries && ctx.Err() == nil {
			if try++; try > 1 {
				c.reads = max(c.reads/lessBy, leastPiece)
			}
			continue
		}
		if terr := taken(); terr != nil {
			return given, terr
		}
		if err != nil {
			return given, err
		}
		try, mem[turn], turn = 0, b, 1-turn
		asked, last = asked+part, part
		go func() {
			_, err := w.Write(b)
			giving <- err
		}()
	}
	err := taken()
	return given, err
}

// TablePartition is the table of partitions, where a partition is named.
const TablePartition = "@table"

// dataHead is what stands before the bytes of a piece: where they belong.
const dataHead = 8

// piece reads one piece into mem, or what is larger: whole, or not at all.
func (c *Client) piece(ctx context.Context, partition string, off, n int64, mem []byte) ([]byte, error) {
	got := mem[:0]
	wish := Fields{
		"partition": partition,
		"offset":    strconv.FormatInt(off, 10),
		"length":    strconv.FormatInt(n, 10),
	}
	_, err := c.order(ctx, Read, wish.Encode(), func(b []byte) error {
		if len(b) < dataHead || int64(binary.LittleEndian.Uint64(b)) != off || int64(len(b)-dataHead) != n {
			return &link.ProtocolError{Protocol: "loader protocol",
				What: "gives other bytes than were asked for"}
		}
		got = append(got[:0], b[dataHead:]...)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if int64(len(got)) != n {
		return nil, link.Lost("reading", errors.New("the bytes were lost on the line"))
	}
	return got, nil
}

// Write writes an image to a partition, and gives its SHA-256 in hex. Of an attempt that was interrupted the
// loader says how much it has and the digest of that: where this is how the image begins, the rest is
// sent; moved is told how many bytes the loader has. table says that it is a table of partitions, which
// is never written by the way.
func (c *Client) Write(ctx context.Context, partition string, r io.ReaderAt, size int64, table bool,
	moved func(int64)) (digest string, err error) {
	wish := Fields{"partition": partition, "size": strconv.FormatInt(size, 10)}
	if table {
		wish["table"] = "yes"
	}
	w := &sending{c: c, r: r, size: size, wish: wish, sum: sha256.New()}
	if err := w.begin(ctx); err != nil {
		return "", err
	}
	buf := make([]byte, c.most)
	for moved(w.at); w.at < size; moved(w.at) {
		n := min(c.writes, size-w.at)
		binary.LittleEndian.PutUint64(buf, uint64(w.at))
		if _, err := r.ReadAt(buf[dataHead:dataHead+n], w.at); err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		// The digest grows while the loader takes the piece.
		digested := make(chan struct{})
		go func() {
			defer close(digested)
			w.sum.Write(buf[dataHead : dataHead+n])
		}()
		_, err := c.order(ctx, Data, buf[:dataHead+n], nil)
		<-digested
		w.at += n
		var lost *link.LostError
		if errors.As(err, &lost) && c.writes > leastPiece && ctx.Err() == nil {
			c.writes = max(c.writes/lessBy, leastPiece)
			err = w.begin(ctx) // the loader says where it is
		}
		if err != nil {
			return "", err
		}
	}
	digest = hex.EncodeToString(w.sum.Sum(nil))
	told, err := c.ask(ctx, End, Fields{"sha256": digest}.Encode())
	if err == nil && told["sha256"] != "" && told["sha256"] != digest {
		return "", &link.ProtocolError{Protocol: "loader protocol",
			What: "has written another image than it was sent: " + told["sha256"]}
	}
	return digest, err
}

// sending is an image on its way.
type sending struct {
	c    *Client
	r    io.ReaderAt
	size int64
	wish Fields
	at   int64     // what was sent
	sum  hash.Hash // of that
}

// begin prepares the write, and goes to where the loader is with it: to the start, where what it has is
// not how this image begins.
func (w *sending) begin(ctx context.Context) error {
	delete(w.wish, "anew")
	for {
		told, err := w.c.ask(ctx, Begin, w.wish.Encode())
		if err != nil {
			return err
		}
		have, err := strconv.ParseInt(told["have"], 10, 64)
		if err != nil || have < 0 || have > w.size || have > 0 && w.wish["anew"] != "" {
			return &link.ProtocolError{Protocol: "loader protocol",
				What: fmt.Sprintf("has %q bytes of an image of %d", told["have"], w.size)}
		}
		if have != w.at {
			w.sum.Reset()
			w.at = have
			if _, err := io.CopyBuffer(struct{ io.Writer }{w.sum}, io.NewSectionReader(w.r, 0, have),
				make([]byte, 1<<20)); err != nil {
				return err
			}
		}
		if have == 0 || told["sha256"] == hex.EncodeToString(w.sum.Sum(nil)) {
			return nil
		}
		w.wish["anew"] = "yes"
	}
}

// Erase erases a partition.
func (c *Client) Erase(ctx context.Context, partition string) error {
	_, err := c.order(ctx, Erase, Fields{"partition": partition}.Encode(), nil)
	return err
}

// Leave has the phone leave its loader: "system", "off", or "loader" to start that again.
func (c *Client) Leave(ctx context.Context, to string) error {
	_, err := c.order(ctx, Leave, Fields{"to": to}.Encode(), nil)
	return err
}
