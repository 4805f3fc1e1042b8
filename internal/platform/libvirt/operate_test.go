package libvirt_test

import (
	"bytes"
	"fmt"
	"image/color"
	"image/png"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"kestrel/internal/platform"
	"kestrel/internal/platform/libvirt"
)

// Either form of a screen that QEMU makes becomes a PNG, and what is neither is refused.
func TestScreensBecomePNG(t *testing.T) {
	pixels := []byte{255, 0, 0, 10, 10, 10, 0, 0, 255, 32, 32, 32, 0, 255, 0, 9, 9, 9}
	shot, err := libvirt.AsPNG(append([]byte("P6\n3 2\n255\n"), pixels...))
	require.NoError(t, err)
	img, err := png.Decode(bytes.NewReader(shot))
	require.NoError(t, err)
	require.Equal(t, "(0,0)-(3,2)", img.Bounds().String())
	for i := range 6 {
		require.Equal(t, color.RGBA{pixels[3*i], pixels[3*i+1], pixels[3*i+2], 255}, color.RGBAModel.Convert(img.At(i%3, i/3)), i)
	}
	again, err := libvirt.AsPNG(shot)
	require.NoError(t, err)
	require.Equal(t, shot, again)
	for _, bad := range []string{"", "P6", "P5\n1 1\n255\nabc", "P6\n3 2\n255\nabc", "P6\n-3 2\n255\nabc", "P6\n99999999 99999999\n255\nabc", "P6\n1 1\n65535\nabcdef", "<html>"} {
		_, err := libvirt.AsPNG([]byte(bad))
		require.Error(t, err, "%q", bad)
	}
}

func TestAPortIsTriedAtEachAddress(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	at := map[string]string{"52:54:00:00:00:01": "127.0.0.9", "52:54:00:00:00:02": "127.0.0.1"}
	c, err := libvirt.DialAny(t.Context(), at, port)
	require.NoError(t, err, fmt.Sprint("port ", port))
	require.NoError(t, c.Close())
	require.NoError(t, l.Close())
	for _, nowhere := range []map[string]string{at, nil} {
		_, err = libvirt.DialAny(t.Context(), nowhere, port)
		require.ErrorIs(t, err, platform.ErrClosed)
	}
}
