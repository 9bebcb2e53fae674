package traffic

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"math"
	"math/bits"
	"net/netip"
	"slices"
	"time"

	"github.com/dchest/siphash"
)

// Visitors are counted without keeping any: each becomes a number under a salt that lives for a
// day, and of all numbers a sketch remembers how rare the rarest were (HyperLogLog: Flajolet,
// Fusy, Gandouet, Meunier, 2007; read by the estimator of O. Ertl, "New cardinality estimation
// algorithms for HyperLogLog sketches", arXiv:1702.01284). When the salt is gone, nobody can tell
// whether an address was among them.

const (
	precision = 12 // 4096 registers: 1.6 percent off, as a rule
	registers = 1 << precision
	// dense is from how many registers on a sketch is kept as all of them.
	dense = 512
)

// Salt is what visitors of one day are numbered under, in UTC: the key of a keyed hash.
type Salt struct {
	Day  string // 2026-11-29
	Data [16]byte
}

// NewSalt makes a random salt for a day.
func NewSalt(day string) Salt {
	s := Salt{Day: day}
	rand.Read(s.Data[:])
	return s
}

// Name tells salts from one another, and says nothing of them.
func (s Salt) Name() string {
	sum := sha256.Sum256(append([]byte("orilla traffic salt\n"), s.Data[:]...))
	const enough = 6
	return hex.EncodeToString(sum[:enough])
}

// Number is the number of a visitor, who is told from others by address and program: SipHash-2-4
// (Aumasson and Bernstein, 2012) under the salt.
func (s *Salt) Number(address netip.Addr, agent string) uint64 {
	const longest = 512
	data := make([]byte, 0, 192)
	sixteen := address.As16()
	data = append(append(data, sixteen[:]...), agent[:min(len(agent), longest)]...)
	return siphash.Hash(binary.LittleEndian.Uint64(s.Data[:8]), binary.LittleEndian.Uint64(s.Data[8:]), data)
}

// DayOf is the day of a time, as salts and keys have it.
func DayOf(t time.Time) string { return t.UTC().Format(time.DateOnly) }

// A sketch begins as the few registers that are not empty, since most sites have few visitors in an
// hour, and is all 4,096 of them, a byte each, from 512 on.

// Sketch is a set of visitors of which only the size can be told. The zero value is empty.
type Sketch struct {
	few map[uint16]uint8 // by register; nil once all are kept
	all []uint8
}

// Add adds a visitor's number.
func (s *Sketch) Add(number uint64) {
	register := uint16(number >> (64 - precision))
	// One more than the zeros before the first one.
	rank := uint8(bits.LeadingZeros64(number<<precision|1<<(precision-1)) + 1)
	s.raise(register, rank)
}

// raise raises a register.
func (s *Sketch) raise(register uint16, rank uint8) {
	if s.all != nil {
		s.all[register] = max(s.all[register], rank)
		return
	}
	if s.few == nil {
		s.few = map[uint16]uint8{}
	}
	s.few[register] = max(s.few[register], rank)
	if len(s.few) > dense {
		s.all = make([]uint8, registers)
		for register, rank := range s.few {
			s.all[register] = rank
		}
		s.few = nil
	}
}

// each calls a function for each register that is not empty, in order.
func (s *Sketch) each(do func(register uint16, rank uint8)) {
	if s.all != nil {
		for register, rank := range s.all {
			if rank > 0 {
				do(uint16(register), rank)
			}
		}
		return
	}
	order := make([]uint16, 0, len(s.few))
	for register := range s.few {
		order = append(order, register)
	}
	slices.Sort(order)
	for _, register := range order {
		do(register, s.few[register])
	}
}

// Unite adds those of another sketch, of the same salt.
func (s *Sketch) Unite(other *Sketch) { other.each(s.raise) }

// Size is about how many visitors were added.
func (s *Sketch) Size() int64 {
	// How many registers have each rank; the highest a hash of 64 bits can give is q+1.
	const q = 64 - precision
	var has [q + 2]int
	has[0] = registers
	s.each(func(_ uint16, rank uint8) { has[0]--; has[min(int(rank), q+1)]++ })
	const m = float64(registers)
	z := m * tau(1-float64(has[q+1])/m)
	for k := q; k >= 1; k-- {
		z = (z + float64(has[k])) / 2
	}
	z += m * sigma(float64(has[0])/m)
	return int64(math.Round(m * m / (2 * math.Ln2 * z)))
}

// sigma and tau are the functions of Ertl's estimator (algorithm 6 there).
func sigma(x float64) float64 {
	if x == 1 {
		return math.Inf(1)
	}
	y, z := 1.0, x
	for {
		x *= x
		before := z
		z += x * y
		y += y
		if z == before {
			return z
		}
	}
}

func tau(x float64) float64 {
	if x == 0 || x == 1 {
		return 0
	}
	y, z := 1.0, 1-x
	for {
		x = math.Sqrt(x)
		before := z
		y /= 2
		z -= (1 - x) * (1 - x) * y
		if z == before {
			return z / 3
		}
	}
}

// errSketch: bytes are no sketch.
var errSketch = errors.New("not a sketch of visitors")

// MarshalBinary writes the registers that are not empty: for each, how far it is behind the one
// before (an unsigned varint) and its rank, a byte.
func (s *Sketch) MarshalBinary() ([]byte, error) {
	var data []byte
	before := 0
	s.each(func(register uint16, rank uint8) {
		data = binary.AppendUvarint(data, uint64(int(register)-before))
		data = append(data, rank)
		before = int(register)
	})
	return data, nil
}

// UnmarshalBinary reads what MarshalBinary wrote.
func (s *Sketch) UnmarshalBinary(data []byte) error {
	*s = Sketch{}
	register := uint64(0)
	for first := true; len(data) > 0; first = false {
		step, size := binary.Uvarint(data)
		if size <= 0 || size == len(data) || !first && step == 0 || step >= registers {
			return errSketch
		}
		rank := data[size]
		register += step
		if register >= registers || rank == 0 || rank > 64-precision+1 {
			return errSketch
		}
		s.raise(uint16(register), rank)
		data = data[size+1:]
	}
	return nil
}

// MarshalText makes a sketch a string of JSON.
func (s *Sketch) MarshalText() ([]byte, error) {
	data, err := s.MarshalBinary()
	return []byte(base64.RawStdEncoding.EncodeToString(data)), err
}

// UnmarshalText reads what MarshalText wrote.
func (s *Sketch) UnmarshalText(text []byte) error {
	data, err := base64.RawStdEncoding.DecodeString(string(text))
	if err != nil {
		return errSketch
	}
	return s.UnmarshalBinary(data)
}
