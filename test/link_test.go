package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/demo"
)

// link is a client and a far server: two tun devices in two namespaces, and
// this process carries every packet over late.
type link struct{ client, server, resolver, roots, url string }

func newLink(t testing.TB, delay time.Duration) link {
	t.Helper()
	if os.Getuid() != 0 {
		t.Skip("needs root, to make network namespaces")
	}
	sh := func(line string) {
		t.Helper()
		words := strings.Fields(line)
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v: %s", line, err, out)
		}
	}
	var files []*os.File
	var spaces []string
	for i, addr := range []string{"10.20.7.31", "10.20.0.14"} {
		ns, name := fmt.Sprintf("u%d-far%d", os.Getpid(), i), fmt.Sprintf("ua%d%d", os.Getpid()%10000, i)
		files = append(files, tun(t, name))
		sh("ip netns add " + ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
		sh("ip link set " + name + " netns " + ns)
		sh("ip -n " + ns + " addr add " + addr + "/16 dev " + name)
		sh("ip -n " + ns + " link set " + name + " up")
		sh("ip -n " + ns + " link set lo up")
		spaces = append(spaces, ns)
	}
	go carry(files[0], files[1], delay)
	go carry(files[1], files[0], delay)
	dir := t.TempDir()
	far := exec.Command("ip", "netns", "exec", spaces[1], os.Args[0], "-test.run=TestHelperFar$", "-test.timeout=0")
	far.Env = append(os.Environ(), "FAR="+dir)
	if err := far.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { far.Process.Kill(); far.Wait() })
	for range 100 {
		if _, err := os.Stat(filepath.Join(dir, "up")); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	return link{
		spaces[0],
		spaces[1],
		"10.20.0.14:5353",
		filepath.Join(dir, "authority.pem"),
		"https://tidebook.varzea.example:8443/",
	}
}

// tun opens a tun device (Documentation/networking/tuntap.rst).
func tun(t testing.TB, name string) *os.File {
	t.Helper()
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		t.Skipf("needs /dev/net/tun: %v", err)
	}
	request, err := unix.NewIfreq(name)
	if err != nil {
		t.Fatal(err)
	}
	request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, request); err != nil {
		t.Fatal(err)
	}
	if err := unix.SetNonblock(fd, true); err != nil {
		t.Fatal(err)
	}
	f := os.NewFile(uintptr(fd), name)
	t.Cleanup(func() { f.Close() })
	return f
}

// carry takes every packet from one device to another, late.
func carry(from, to *os.File, delay time.Duration) {
	type packet struct {
		due  time.Time
		data []byte
	}
	queue := make(chan packet, 1000)
	go func() {
		for p := range queue {
			time.Sleep(time.Until(p.due))
			to.Write(p.data) // a packet that is lost is lost
		}
	}()
	defer close(queue)
	for {
		buffer := make([]byte, 2048)
		n, err := from.Read(buffer)
		if err != nil {
			return
		}
		queue <- packet{time.Now().Add(delay), buffer[:n]}
	}
}

// TestHelperFar is the process of the far server and its resolver; it is no
// test.
func TestHelperFar(t *testing.T) {
	dir := os.Getenv("FAR")
	if dir == "" {
		t.Skip("only a helper")
	}
	if err := demo.Far(dir, "10.20.0.14"); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "up"), "")
	time.Sleep(10 * time.Minute)
}
