package tty

import (
	"errors"
	"fmt"
	"math"
	"os"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"

	"gavrix.org/gavrix/core/bus/uart"
	"gavrix.org/gavrix/core/finding"
	"gavrix.org/gavrix/core/quantity"
)

// markKinds says which error marks the system's ports can tell.
const markKinds = "break; parity or framing, told apart where the driver counts them; overrun where it counts"

// port is an open terminal device.
type port struct {
	f *os.File
}

func (p *port) Read(b []byte) (int, error)  { return p.f.Read(b) }
func (p *port) Write(b []byte) (int, error) { return p.f.Write(b) }
func (p *port) Close() error                { return p.f.Close() }

// icounter is the kernel's struct serial_icounter_struct.
type icounter struct {
	_, _, _, _, _, _                  int32
	frame, overrun, parity, brk, bufs int32
	_                                 [9]int32
}

func (p *port) counts() counts {
	var c icounter
	raw, err := p.f.SyscallConn()
	if err != nil {
		return counts{}
	}
	known := false
	err = raw.Control(func(fd uintptr) {
		_, _, no := unix.Syscall(unix.SYS_IOCTL, fd, unix.TIOCGICOUNT, uintptr(unsafe.Pointer(&c)))
		known = no == 0
	})
	if err != nil || !known {
		return counts{}
	}
	return counts{true, uint32(c.frame), uint32(c.parity), uint32(c.overrun + c.bufs), uint32(c.brk)}
}

func open(cfg Config) (handle, []finding.Finding, error) {
	fd, err := unix.Open(cfg.Path, unix.O_RDWR|unix.O_NOCTTY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, nil, openProblem(cfg.Path, err)
	}
	fail := func(p *Problem) (handle, []finding.Finding, error) {
		unix.Close(fd)
		return nil, nil, p
	}
	if _, err := unix.IoctlGetTermios(fd, unix.TCGETS); err != nil {
		return fail(&Problem{"no-port", cfg.Path + " is no serial port", "name a terminal device; `gavrix ports` lists them"})
	}
	if own(fd) {
		return fail(&Problem{"own-terminal", cfg.Path + " is the terminal that this program runs in", "name the port that the device hangs on; `gavrix ports` lists them"})
	}
	if err := unix.Flock(fd, unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return fail(busy(cfg.Path))
	}
	if err := unix.IoctlSetInt(fd, unix.TIOCEXCL, 0); err != nil {
		return fail(&Problem{"port-unusable", fmt.Sprintf("%s can't be claimed: %v", cfg.Path, err), ""})
	}
	findings, err := configure(fd, cfg)
	if err != nil {
		return fail(&Problem{"settings-refused", fmt.Sprintf("%s: the driver refuses %s %s: %v", cfg.Path, cfg.Rate, cfg.Frame, err), "choose a rate and frame that the adapter can do"})
	}
	if err := modem(fd, cfg); err != nil {
		findings = append(findings, finding.Finding{
			Severity: finding.Warning, Code: "modem-lines-not-set", Where: finding.Place{Link: cfg.Path},
			Seen: fmt.Sprintf("DTR and RTS could not be set: %v", err), Change: "write `leave`, or use an adapter that has the lines",
		})
	}
	if err := unix.IoctlSetInt(fd, unix.TCFLSH, unix.TCIFLUSH); err != nil {
		return fail(&Problem{"port-unusable", fmt.Sprintf("%s: %v", cfg.Path, err), ""})
	}
	return &port{os.NewFile(uintptr(fd), cfg.Path)}, findings, nil
}

// own says whether a terminal is the one that the program runs in: /dev/tty, or where
// one of its standard streams goes.
func own(fd int) bool {
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil {
		return false
	}
	if st.Rdev == unix.Mkdev(5, 0) {
		return true
	}
	for std := range 3 {
		var of unix.Stat_t
		if unix.Fstat(std, &of) == nil && of.Mode&unix.S_IFMT == unix.S_IFCHR && of.Rdev == st.Rdev {
			return true
		}
	}
	return false
}

func openProblem(path string, err error) *Problem {
	switch {
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENXIO), errors.Is(err, unix.ENODEV):
		p := &Problem{"port-absent", path + " is not there", "plug the adapter in; it is opened when it appears"}
		if near := nearest(path); near != "" {
			p.Change += "; nearest that is there: " + near
		}
		return p
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM):
		return permission(path)
	case errors.Is(err, unix.EBUSY):
		return busy(path)
	}
	return &Problem{"port-unusable", fmt.Sprintf("%s can't be opened: %v", path, err), ""}
}

func busy(path string) *Problem {
	p := &Problem{"port-busy", path + " is held by another program", "close that program; the port is opened when it is free"}
	if who := holder(path); who != "" {
		p.Seen = fmt.Sprintf("%s is held by %s", path, who)
	}
	return p
}

// holder names the process that has the path open, as far as it may be seen.
func holder(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return ""
	}
	procs, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, fd := range procs {
		if to, err := os.Readlink(fd); err != nil || to != real {
			continue
		}
		pid := strings.Split(fd, "/")[2]
		if pid == strconv.Itoa(os.Getpid()) {
			continue
		}
		name, _ := os.ReadFile("/proc/" + pid + "/comm")
		return fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), pid)
	}
	return ""
}

func permission(path string) *Problem {
	p := &Problem{"port-not-permitted", "you may not open " + path, "ask for access to it"}
	info, err := os.Stat(path)
	if err != nil {
		return p
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return p
	}
	group := strconv.Itoa(int(st.Gid))
	if g, err := user.LookupGroupId(group); err == nil {
		group = g.Name
	}
	p.Seen += fmt.Sprintf(": it belongs to group %s (%s)", group, info.Mode().Perm())
	p.Change = mayOpen(path, group, st.Gid, info.Mode())
	return p
}

// mayOpen says how one gets access to a port: by its group, where that has the rights and
// is none that gives more than that.
func mayOpen(path, group string, gid uint32, mode os.FileMode) string {
	if gid != 0 && mode.Perm()&0o060 == 0o060 {
		return fmt.Sprintf("join the group: usermod -aG %s YOU, then log in again", group)
	}
	return fmt.Sprintf("its group %s may not open it or is not to be joined: let a rule of the system give it to one that may, or for this once: setfacl -m u:YOU:rw %s", group, path)
}

// nearest names the port in the same folder whose name is most like the
// missing one.
func nearest(path string) string {
	stem := strings.TrimRight(filepath.Base(path), "0123456789")
	found, _ := filepath.Glob(filepath.Join(filepath.Dir(path), stem+"*"))
	sort.Strings(found)
	for _, f := range found {
		if info, err := os.Stat(f); err == nil && info.Mode()&os.ModeCharDevice != 0 && stem != "" {
			return f
		}
	}
	return ""
}

const (
	sizeBits = unix.CSIZE | unix.PARENB | unix.PARODD | unix.CMSPAR | unix.CSTOPB | unix.CRTSCTS
)

func wantedBits(cfg Config) uint32 {
	bits := map[int]uint32{5: unix.CS5, 6: unix.CS6, 7: unix.CS7, 8: unix.CS8}[cfg.Frame.Data]
	switch cfg.Frame.Parity {
	case uart.Even:
		bits |= unix.PARENB
	case uart.Odd:
		bits |= unix.PARENB | unix.PARODD
	case uart.Mark:
		bits |= unix.PARENB | unix.PARODD | unix.CMSPAR
	case uart.Space:
		bits |= unix.PARENB | unix.CMSPAR
	}
	if cfg.Frame.Stop == 2 {
		bits |= unix.CSTOPB
	}
	if cfg.Flow == "rts-cts" {
		bits |= unix.CRTSCTS
	}
	return bits
}

// configure sets the port up raw, with error marking, and reads back what the
// driver made of it.
func configure(fd int, cfg Config) ([]finding.Finding, error) {
	t, err := unix.IoctlGetTermios(fd, unix.TCGETS2)
	if err != nil {
		return nil, err
	}
	t.Iflag = unix.INPCK | unix.PARMRK
	if cfg.Flow == "xon-xoff" {
		t.Iflag |= unix.IXON | unix.IXOFF
	}
	t.Oflag, t.Lflag = 0, 0
	t.Cflag &^= sizeBits | unix.CBAUD | unix.HUPCL
	t.Cflag |= wantedBits(cfg) | unix.CREAD | unix.CLOCAL | unix.BOTHER
	baud := uint32(math.Round(cfg.Rate.Bd()))
	t.Ispeed, t.Ospeed = baud, baud
	t.Cc[unix.VMIN], t.Cc[unix.VTIME] = 1, 0
	if err := unix.IoctlSetTermios(fd, unix.TCSETS2, t); err != nil {
		return nil, err
	}
	got, err := unix.IoctlGetTermios(fd, unix.TCGETS2)
	if err != nil {
		return nil, err
	}
	return compare(cfg, baud, got, pseudo(fd)), nil
}

// compare gives findings where the driver did not take the settings.
func compare(cfg Config, baud uint32, got *unix.Termios, pseudo bool) []finding.Finding {
	var out []finding.Finding
	add := func(sev finding.Severity, code, seen, why, change string) {
		out = append(out, finding.Finding{Severity: sev, Code: code, Where: finding.Place{Link: cfg.Path}, Seen: seen, Why: why, Change: change})
	}
	if got.Ospeed != baud {
		sev := finding.Warning
		if off := math.Abs(float64(got.Ospeed)/float64(max(baud, 1)) - 1); off > 0.02 {
			sev = finding.Error
		}
		add(sev, "rate-not-taken", fmt.Sprintf("asked for %s, the driver runs at %s", cfg.Rate, quantity.Rate(got.Ospeed)*quantity.Baud),
			"the adapter's own divider can't do the rate", "take a rate that the adapter reaches, at both ends")
	}
	if got.Cflag&sizeBits != wantedBits(cfg) && !pseudo {
		add(finding.Error, "frame-not-taken", fmt.Sprintf("asked for %s, the driver did not take it", cfg.Frame), "every character would be read in another frame", "use an adapter that can do the frame")
	}
	if pseudo {
		add(finding.Note, "no-format-on-pseudo-terminal", cfg.Path+" is a pseudo-terminal: it carries bytes and enforces no rate, frame or parity",
			"what is proven over it says nothing about the settings of a wire", "")
	}
	return out
}

// pseudo says whether the file is the slave of a pseudo-terminal: those have
// the major numbers 136 to 143.
func pseudo(fd int) bool {
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil {
		return false
	}
	m := unix.Major(st.Rdev)
	return m >= 136 && m <= 143
}

func modem(fd int, cfg Config) error {
	for _, l := range []struct {
		want string
		bit  int
	}{{cfg.DTR, unix.TIOCM_DTR}, {cfg.RTS, unix.TIOCM_RTS}} {
		req := uint(unix.TIOCMBIS)
		switch l.want {
		case "off":
			req = unix.TIOCMBIC
		case "on":
		default:
			continue
		}
		if err := unix.IoctlSetPointerInt(fd, req, l.bit); err != nil {
			return err
		}
	}
	return nil
}
