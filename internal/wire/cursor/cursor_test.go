package cursor

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestReader(t *testing.T) {
	r := New([]byte{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 0, 0, 0, 14, 15, 16})
	require.EqualValues(t, 1, r.U8())
	require.EqualValues(t, 0x0302, r.U16())
	require.EqualValues(t, 0x060504, r.U24())
	require.EqualValues(t, 0x0a090807, r.U32())
	require.EqualValues(t, 14, r.BE32())
	require.ErrorIs(t, r.Done(), ErrLong)

	r = New([]byte{1, 2, 3})
	var two [2]byte
	r.Copy(two[:])
	require.Equal(t, [2]byte{1, 2}, two)
	require.Zero(t, r.U16(), "what is missing reads as nothing")
	require.Zero(t, r.U8(), "and so does all after it")
	require.Zero(t, r.Len())
	require.EqualError(t, r.Done(), "the message is too short: 2 bytes wanted at 2, 1 there", "the first failure is the one that is told")

	r = New([]byte{1})
	mine := errors.New("mine")
	r.Fail(mine)
	r.Fail(errors.New("later"))
	require.ErrorIs(t, r.Done(), mine)

	r = New([]byte{1, 2})
	require.Nil(t, r.Bytes(-1), "a length from the network may be anything")
	require.ErrorIs(t, r.Err(), ErrShort)
}
