package libvirt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"net"
	"strconv"
	"time"

	"github.com/beevik/etree"
	rpc "github.com/digitalocean/go-libvirt"

	"kestrel/internal/platform"
)

const (
	dialLimit   = 2 * time.Second
	screenLimit = 20 * time.Second
	screenTries = 6
	screenPause = 300 * time.Millisecond
	maxScreen   = 64 << 20 // bytes
)

// Switch implements platform.Operator.
func (d *Driver) Switch(ctx context.Context, machine, to string) error {
	h, dom, err := d.find(ctx, machine)
	if err != nil {
		return err
	}
	defer d.opening.hold(uuidText(dom.UUID))()
	return do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		now := power(state)
		switch {
		case to == platform.SwitchOn && now == platform.PowerOff:
			_, err = l.DomainCreateWithFlags(dom, 0)
		case to == platform.SwitchOn && now == platform.PowerSuspended:
			err = l.DomainResume(dom)
		case to == platform.SwitchOff && now != platform.PowerOff:
			err = l.DomainDestroyFlags(dom, 0)
		case to == platform.SwitchDown && now != platform.PowerOff:
			err = l.DomainShutdownFlags(dom, 0) // by its agent or its power button, as libvirt sees fit
		}
		if err != nil {
			return fmt.Errorf("switch machine %s %s: %w", dom.Name, to, err)
		}
		return nil
	})
}

// Discard implements platform.Operator. Disks go that a pool holds and no other machine shares.
func (d *Driver) Discard(ctx context.Context, machine string) (left []string, err error) {
	h, dom, err := d.find(ctx, machine)
	if errors.Is(err, platform.ErrGone) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	err = do(ctx, h, beginLimit, func(l *rpc.Libvirt) error {
		left = nil
		state, _, err := l.DomainGetState(dom, 0)
		if err != nil {
			return err
		}
		if power(state) != platform.PowerOff {
			return fmt.Errorf("machine %s: %w", dom.Name, platform.ErrRuns)
		}
		text, err := l.DomainGetXMLDesc(dom, rpc.DomainXMLInactive)
		if err != nil {
			return err
		}
		doc := etree.NewDocument()
		if err := doc.ReadFromString(text); err != nil {
			return err
		}
		var files []string
		for _, k := range doc.FindElements("/domain/devices/disk") {
			if kind := k.SelectAttrValue("device", "disk"); kind != "disk" || k.SelectElement("readonly") != nil {
				continue
			}
			for _, s := range k.SelectElements("source") {
				file := s.SelectAttrValue("file", s.SelectAttrValue("dev", ""))
				if k.SelectElement("shareable") != nil || file == "" {
					left = append(left, file)
				} else {
					files = append(files, file)
				}
			}
		}
		flags := rpc.DomainUndefineManagedSave | rpc.DomainUndefineSnapshotsMetadata | rpc.DomainUndefineCheckpointsMetadata | rpc.DomainUndefineNvram
		if err := l.DomainUndefineFlags(dom, flags); err != nil && !is(err, rpc.ErrNoDomain) {
			return fmt.Errorf("remove machine %s: %w", dom.Name, err)
		}
		for _, file := range files {
			v, err := l.StorageVolLookupByPath(file)
			if err == nil {
				err = l.StorageVolDelete(v, 0)
			}
			if err != nil {
				left = append(left, file)
			}
		}
		return nil
	})
	return left, err
}

// Screen implements platform.Operator.
func (d *Driver) Screen(ctx context.Context, machine string) ([]byte, error) {
	h, dom, err := d.find(ctx, machine)
	if err != nil {
		return nil, err
	}
	for range screenTries - 1 {
		if picture, err := screen(ctx, h, dom); err == nil || errors.Is(err, platform.ErrNoScreen) {
			return picture, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(screenPause):
		}
	}
	return screen(ctx, h, dom)
}

// screen takes one picture. At times nothing comes of a machine that has just started.
func screen(ctx context.Context, h *host, dom rpc.Domain) ([]byte, error) {
	// The client library waits, with its lock held, for whoever reads a picture, and who reads
	// it may have gone: then nothing else comes through that connection any more, not even its
	// end. So each has one of its own, and nobody waits for that to end.
	own := h.another()
	defer func() { go own.close() }()
	var shot bytes.Buffer
	err := do(ctx, own, screenLimit, func(l *rpc.Libvirt) error {
		_, err := l.DomainScreenshot(dom, &limited{&shot, maxScreen}, 0, 0)
		if is(err, rpc.ErrOperationInvalid, rpc.ErrOperationUnsupported, rpc.ErrNoSupport, rpc.ErrConfigUnsupported, rpc.ErrInvalidArg) {
			return fmt.Errorf("machine %s: %w: %w", dom.Name, platform.ErrNoScreen, err)
		}
		return err
	})
	if errors.Is(err, platform.ErrNoScreen) {
		return nil, err
	}
	// The client library looks for the answer where the stream has ended and finds nothing
	// there; a picture that is whole needs no answer.
	picture, bad := asPNG(shot.Bytes())
	if bad == nil {
		return picture, nil
	}
	return nil, errors.Join(err, bad)
}

// asPNG makes a PNG of what QEMU makes of a screen: a PNG, or a pixmap where it was built
// without.
func asPNG(shot []byte) ([]byte, error) {
	if _, err := png.Decode(bytes.NewReader(shot)); err == nil {
		return shot, nil
	}
	img, err := pixmap(shot)
	if err != nil {
		return nil, fmt.Errorf("read what the hypervisor made of its screen (%d bytes): %w", len(shot), err)
	}
	var out bytes.Buffer
	if err := png.Encode(&out, img); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// pixmap reads the binary form of a portable pixmap with a byte a colour, as QEMU writes it
// (ppm(5): "P6", width, height, 255, and then red, green and blue by row).
func pixmap(shot []byte) (image.Image, error) {
	var width, height, most int
	if _, err := fmt.Fscanf(bytes.NewReader(shot), "P6\n%d %d\n%d\n", &width, &height, &most); err != nil {
		return nil, fmt.Errorf("it is no pixmap: %w", err)
	}
	const head = 40 // bytes that may stand before the pixels
	if most != 255 || width < 1 || height < 1 || width > maxScreen || height > maxScreen/width || len(shot) < 3*width*height || len(shot) > 3*width*height+head {
		return nil, fmt.Errorf("a pixmap of %d x %d in %d bytes", width, height, len(shot))
	}
	pixels := shot[len(shot)-3*width*height:]
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for i := range width * height {
		copy(img.Pix[4*i:], pixels[3*i:3*i+3])
		img.Pix[4*i+3] = 255
	}
	return img, nil
}

// limited refuses to hold more than so many bytes.
type limited struct {
	*bytes.Buffer
	most int
}

// Write implements io.Writer.
func (w *limited) Write(b []byte) (int, error) {
	if w.Len()+len(b) > w.most {
		return 0, fmt.Errorf("it is larger than %d bytes", w.most)
	}
	return w.Buffer.Write(b)
}

// dialAny tries a TCP port at each of some addresses.
func dialAny(ctx context.Context, byMAC map[string]string, port int) (net.Conn, error) {
	last := fmt.Errorf("no address of it is known")
	for _, a := range byMAC {
		var near net.Dialer
		ctx, cancel := context.WithTimeout(ctx, dialLimit)
		c, err := near.DialContext(ctx, "tcp", net.JoinHostPort(a, strconv.Itoa(port)))
		cancel()
		if err == nil {
			return c, nil
		}
		last = err
	}
	return nil, fmt.Errorf("%w: %w", platform.ErrClosed, last)
}

var _ platform.Operator = (*Driver)(nil)
