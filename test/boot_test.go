package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// rootPackages is what a full host has beside the least.
const rootPackages = "systemd,systemd-sysv,dbus,openssh-server,sudo,nginx-light,iproute2,procps,nftables,iptables"

// labRoot is the folder that every full host is laid over. It is made once and
// kept for later runs.
var labRoot = sync.OnceValues(func() (string, error) {
	root := filepath.Join("/var/tmp", "uakari-lab-root")
	if made, err := os.ReadFile(filepath.Join(root, "complete")); err == nil && string(made) == rootPackages {
		return root, nil
	}
	os.RemoveAll(root)
	cmd := exec.Command("debootstrap", "--variant=minbase", "--include="+rootPackages, "bookworm", root, mirror())
	if out, err := cmd.CombinedOutput(); err != nil {
		return string(out), err
	}
	return root, os.WriteFile(filepath.Join(root, "complete"), []byte(rootPackages), 0o600)
})

// serverRoot is the same with many servers beside, none of which starts by
// itself.
var serverRoot = sync.OnceValues(func() (string, error) { return rootWith("uakari-server-root", serverPackages) })

// containerRoot is the same with an engine of containers.
var containerRoot = sync.OnceValues(
	func() (string, error) { return rootWith("uakari-container-root", containerPackages) },
)

// dockerRoot is the same with the two other engines that Debian has.
var dockerRoot = sync.OnceValues(
	func() (string, error) { return rootWith("uakari-docker-root", dockerPackages) },
)

const dockerPackages = "docker.io containerd iptables busybox-static"

const containerPackages = "podman netavark aardvark-dns crun busybox-static"

// rootWith is the full host's folder with packages beside, made once.
func rootWith(name, packages string) (string, error) {
	below, err := labRoot()
	if err != nil {
		return below, err
	}
	root := filepath.Join("/var/tmp", name)
	if made, err := os.ReadFile(filepath.Join(root, "complete")); err == nil && string(made) == packages {
		return root, nil
	}
	out, err := exec.Command("unshare", "--mount", "bash", "-c", serverScript, "servers", below, root, packages).
		CombinedOutput()
	if err != nil {
		return string(out[max(0, len(out)-2000):]), err
	}
	return root, os.WriteFile(filepath.Join(root, "complete"), []byte(packages), 0o600)
}

// serverScript installs packages in a copy of a root, and turns what they
// bring off.
const serverScript = `set -e
below=$1; root=$2; packages=$3
rm -rf "$root"; cp -a "$below" "$root"
printf '#!/bin/sh\nexit 101\n' > "$root/usr/sbin/policy-rc.d"; chmod 755 "$root/usr/sbin/policy-rc.d"
cp /etc/resolv.conf "$root/etc/resolv.conf"
cp /etc/apt/apt.conf.d/* "$root/etc/apt/apt.conf.d/" 2>/dev/null || true
mount --make-rprivate /
mount -t proc proc "$root/proc"; mount --bind /dev "$root/dev"
chroot "$root" sh -ec "export DEBIAN_FRONTEND=noninteractive LC_ALL=C; apt-get -q update; apt-get install -y -q --no-install-recommends $packages; cd /root"
# a host within namespaces cannot lock its services in
mkdir -p "$root/etc/systemd/system/service.d"
printf '[Service]\nPrivateTmp=no\nPrivateDevices=no\nPrivateUsers=no\nPrivateNetwork=no\nPrivateMounts=no\nProtectSystem=no\nProtectHome=no\nProtectKernelTunables=no\nProtectKernelModules=no\nProtectKernelLogs=no\nProtectControlGroups=no\nProtectClock=no\nProtectHostname=no\nProtectProc=default\nRestrictNamespaces=no\nMemoryDenyWriteExecute=no\nReadWritePaths=\nReadOnlyPaths=\nInaccessiblePaths=\nBindPaths=\nTemporaryFileSystem=\nWatchdogSec=0\n' > "$root/etc/systemd/system/service.d/lab.conf"
rm -f "$root/usr/sbin/policy-rc.d" "$root"/var/cache/apt/archives/*.deb
chroot "$root" sh -c 'for u in $(systemctl list-unit-files --state=enabled --no-legend | cut -d" " -f1); do case $u in ssh.service|nginx.service|*.timer|getty*|e2scrub*|systemd*|remote-fs*) ;; *) systemctl disable -q $u ;; esac; done'
`

// mirror is where this machine gets its packages from.
func mirror() string {
	files, _ := filepath.Glob("/etc/apt/sources.list.d/*")
	for _, file := range append(files, "/etc/apt/sources.list") {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		for word := range strings.FieldsSeq(string(text)) {
			if strings.HasPrefix(word, "http") && !strings.Contains(word, "security") &&
				!strings.Contains(word, "snapshot") {
				return word
			}
		}
	}
	return ""
}

// bootScript lays a fresh layer over the root and starts systemd as its first
// process. It runs within namespaces of its own; without a root of its own
// systemd would clean the machine's /tmp.
const bootScript = `set -e
root=$1; work=$2
hostname tidebook
mount --make-rprivate /
mount -t tmpfs -o size=1g tmpfs "$work"
mkdir "$work/up" "$work/wk" "$work/m"
mount -t overlay overlay -o "lowerdir=$root,upperdir=$work/up,workdir=$work/wk" "$work/m"
cd "$work/m"
mount -t proc proc proc
mount -t sysfs sysfs sys
mount -t tmpfs tmpfs dev
mknod -m 666 dev/null c 1 3; mknod -m 666 dev/zero c 1 5; mknod -m 666 dev/full c 1 7
mknod -m 666 dev/random c 1 8; mknod -m 666 dev/urandom c 1 9; mknod -m 666 dev/tty c 5 0; mknod -m 644 dev/kmsg c 1 11
mkdir dev/pts dev/shm; ln -s /proc/self/fd dev/fd
mount -t devpts devpts dev/pts
mount -t tmpfs tmpfs run
mount -t tmpfs tmpfs tmp
mount -t cgroup2 cgroup2 sys/fs/cgroup
mkdir run/old
echo tidebook > etc/hostname
echo "127.0.0.1 localhost" > etc/hosts
: > etc/resolv.conf
pivot_root . run/old
umount -l /run/old
exec env -i container=lab PATH=/usr/sbin:/usr/bin:/sbin:/bin /lib/systemd/systemd --log-target=journal --show-status=0
`

// fullHost is a host with systemd, at the server's place of a lab.
type fullHost struct {
	*lab
	pid  int    // of its first process
	home string // of whoever looks at it, with what is known of its host key
	keys string // the socket of an agent; "": there is none
}

// from is the words that run a program on the client, as who may log in.
func (h *fullHost) from() []string { return h.as(h.client) }

// as is the same, on another host.
func (h *fullHost) as(ns string) []string {
	return append(enter(ns), "env", "HOME="+h.home, "SSH_AUTH_SOCK="+h.keys)
}

// boot starts a full host and waits until it is up.
func boot(t *testing.T) *fullHost { return bootOver(t, labRoot) }

func bootOver(t *testing.T, below func() (string, error)) *fullHost {
	t.Helper()
	if _, err := exec.LookPath("debootstrap"); err != nil {
		missing(t, "needs debootstrap: apt-get install debootstrap")
	}
	l := newLab(t)
	root, err := below()
	if err != nil {
		missing(t, "debootstrap: "+err.Error()+": "+root)
	}
	work := t.TempDir()
	cmd := exec.Command(
		"ip",
		"netns",
		"exec",
		l.server,
		"unshare",
		"--mount",
		"--uts",
		"--ipc",
		"--pid",
		"--cgroup",
		"--fork",
		"--kill-child",
		"sh",
		"-c",
		bootScript,
		"boot",
		root,
		work,
	)
	log := &strings.Builder{}
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	h := &fullHost{lab: l}
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		// Its first process ends after all others have.
		for range 100 {
			state, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", h.pid))
			if err != nil || strings.Contains(string(state), ") Z ") {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
	for range 100 {
		time.Sleep(100 * time.Millisecond)
		// The first process within is the only child of unshare.
		pid := strconv.Itoa(cmd.Process.Pid) // ip becomes unshare: the number stays
		children, err := os.ReadFile("/proc/" + pid + "/task/" + pid + "/children")
		if err != nil {
			continue
		}
		if pid, err := strconv.Atoi(strings.TrimSpace(string(children))); err == nil {
			h.pid = pid
		}
		if h.pid == 0 {
			continue
		}
		if out, err := h.command("systemctl", "is-active", "nginx", "ssh").CombinedOutput(); err == nil &&
			strings.Count(string(out), "active") == 2 {
			return h
		}
	}
	t.Fatalf("the full host does not come up: %s", log)
	return nil
}

// command is a command within the host.
func (h *fullHost) command(words ...string) *exec.Cmd {
	return exec.Command("nsenter", append(h.enter()[1:], words...)...)
}

// enter is the words that run a program within the host.
func (h *fullHost) enter() []string {
	return []string{"nsenter", "-t", strconv.Itoa(h.pid), "-m", "-u", "-i", "-p", "-C", "-n"}
}

// do runs a shell line within the host.
func (h *fullHost) do(line string) {
	h.t.Helper()
	if out, err := h.command("sh", "-c", line).CombinedOutput(); err != nil {
		h.t.Fatalf("%s: %v: %s", line, err, out)
	}
}

// put writes a file within the host.
func (h *fullHost) put(path, text string) {
	h.t.Helper()
	cmd := h.command("sh", "-c", "mkdir -p \"$(dirname '"+path+"')\" && cat > '"+path+"'")
	cmd.Stdin = strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		h.t.Fatalf("%s: %v: %s", path, err, out)
	}
}

// install puts the program on the host, where SSH finds it.
func (h *fullHost) install() {
	h.t.Helper()
	text, err := os.ReadFile(program)
	if err != nil {
		h.t.Fatal(err)
	}
	h.put("/usr/local/bin/uakari", string(text))
	h.do("chmod 755 /usr/local/bin/uakari")
}
