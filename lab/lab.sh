#!/bin/bash
# lab.sh - a small real libvirt cluster on one machine, in namespaces.  Run as root.  docs/lab.md describes it.
#   lab.sh build          build what all labs share: root file system, guests, packages, the operator's namespace
#   lab.sh up [N]         build what is missing and start N hosts (default 3); safe to repeat
#   lab.sh down           stop every host, remove namespaces (keeps the base rootfs and host disks)
#   lab.sh clean          down + remove host disks (overlay uppers), keys, shared dir (keeps base)
#   lab.sh reset          the same, but for the operator's namespace: whoever is in there stays in it
#   lab.sh status         one line per host
#   lab.sh exec CMD..     run CMD in the operator's network namespace (10.77.0.1)
#   lab.sh sh hN CMD..    run CMD inside host N over ssh
#   lab.sh off|on|cycle hN    pull the plug / power on / both (off: link goes dead first, then SIGKILL)
#   lab.sh cut|uncut hN   network cable of hN out / in (host keeps running)
#   lab.sh guests hN K [guest|fat|busy]   define+start K tiny guests on hN (gN-1..gN-K); 
#   lab.sh xml NAME [MiB] [kind]   print a guest's domain XML
# Every host = netns + mount/uts/ipc/pid/time namespaces over an overlayfs on one Debian rootfs.
set -u
SELF=$(realpath "$0")
TOP=${LAB_HOME:-/var/tmp/yare-lab}                       # rootfs, guests and packages, kept between labs
LAB=${LAB_DIR:-$TOP/lab}                                 # one lab: host disks, keys, shared directory
mkdir -p "$TOP"
BASE=${LAB_BASE:-$TOP/base/root}                         # rootfs for hosts made from now on (each host keeps its own)
SUITE=${LAB_SUITE:-bookworm}
REPO=$TOP/repo; GUEST=$TOP/guest
P=${LAB_PREFIX:-yare}; NET=${LAB_NET:-10.77.0}; OP=${LAB_OP:-yare-op} BR=br-$P   # netns name prefix, /24 of the lab, the operator's netns, the bridge in it
export LAB_HOME=$TOP LAB_DIR=$LAB LAB_BASE=$BASE LAB_PREFIX=$P LAB_NET=$NET LAB_OP=$OP
PKGS="libvirt-daemon libvirt-daemon-driver-qemu libvirt-clients qemu-system-x86 openssh-server iproute2 procps sudo"
hosts() { ls "$LAB/hosts" 2>/dev/null | sort -V; }
num() { echo "${1#h}"; }
die() { echo "lab: $*" >&2; exit 1; }
# a pid file holds "pid starttime"; a zombie (the machine's PID 1 may reap late) is not alive
alive() { local p s; [ -s "$1" ] && read -r p s <"$1" && [ "$(awk '$3 != "Z" {print $22}' "/proc/$p/stat" 2>/dev/null)" = "$s" ]; }
note_pid() { echo "$1 $(cut -d' ' -f22 "/proc/$1/stat")" >"$2"; }
pid_of() { local p s; read -r p s <"$1"; echo "$p"; }
killpid() { alive "$1" && kill "-$2" "$(pid_of "$1")"; }

need_base() {
  grep -qxF "$PKGS" "$BASE/.lab-ready" 2>/dev/null && return
  [ "$BASE" = / ] && return
  command -v mmdebstrap >/dev/null || apt-get -o DPkg::Lock::Timeout=300 install -y --no-install-recommends mmdebstrap ||
    command -v debootstrap >/dev/null || die "no mmdebstrap or debootstrap"
  local MIRROR=${LAB_MIRROR:-$(apt-get indextargets --format '$(REPO_URI)' 'Created-By: Packages' 2>/dev/null | head -1)}   # this machine's own
  rm -rf "$BASE.tmp"; mkdir -p "$(dirname "$BASE")"
  if command -v mmdebstrap >/dev/null; then
    mmdebstrap --variant=minbase --aptopt='APT::Install-Recommends "false"' --include="${PKGS// /,}" "$SUITE" "$BASE.tmp" "$MIRROR" || die mmdebstrap
  else
    debootstrap --variant=minbase "$SUITE" "$BASE.tmp" "$MIRROR" || die debootstrap
    cp /etc/resolv.conf "$BASE.tmp/etc/resolv.conf"
    printf '#!/bin/sh\nexit 101\n' >"$BASE.tmp/usr/sbin/policy-rc.d"; chmod +x "$BASE.tmp/usr/sbin/policy-rc.d"
    chroot "$BASE.tmp" /usr/bin/env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin DEBIAN_FRONTEND=noninteractive LC_ALL=C.UTF-8 sh -c \
      "mount -t proc proc /proc; apt-get install -y --no-install-recommends $PKGS; rc=\$?; apt-get clean; umount /proc; exit \$rc" || die "install in rootfs"
  fi
  # libvirt-daemon-system's postinst makes this user; libvirtd refuses to start the QEMU driver without it
  [ -e "$BASE.tmp/etc/machine-id" ] || : >"$BASE.tmp/etc/machine-id"
  chroot "$BASE.tmp" sh -c 'groupadd -f -r libvirt; groupadd -g 64055 libvirt-qemu; useradd -r -u 64055 -g 64055 -d /var/lib/libvirt -s /usr/sbin/nologin libvirt-qemu'
  rm -f "$BASE.tmp"/etc/ssh/ssh_host_* "$BASE.tmp"/var/cache/apt/*.bin
  echo "$PKGS" >"$BASE.tmp/.lab-ready"; rm -rf "$BASE"; mv "$BASE.tmp" "$BASE"
}

# tiny guests, from source (binutils): guest = 16-bit clock; fat = + 14 MiB of non-zero pages; busy = + rewrites them 18x/s
need_guest() { local k d
  [ -s "$GUEST/busy.bin" ] && return
  mkdir -p "$GUEST"; [ -s "$GUEST/guest.S" ] || cat >"$GUEST/guest.S" <<'GUEST_S'
# Tiny guest: a fake "bzImage" for `-kernel` (16-bit real mode, SeaBIOS services alive).
# Prints on COM1 once a second: "<8-hex boot nonce> <8-hex counter>\r\n"; sleeps with hlt.
# Both numbers live only in guest RAM.
  .code16
  .globl _start
_start:
  .org 0x1f1
  .byte 4            # setup_sects (4)
  .word 0            # root_flags
  .long 1            # syssize (16-byte paras of the "kernel")
  .word 0, 0, 0
  .word 0xaa55       # 0x1fe boot flag
  .org 0x200         # <- linuxboot jumps here: CS=seg+0x20, IP=0
  jmp  start
  .org 0x202
  .ascii "XXXX"      # anything but HdrS: protocol 0
start:
  cli
  movw %cs, %ax
  movw %ax, %ds
  movw %ax, %ss
  movw $0x3ff0, %sp
  sti
  cld
  # uart init 115200 8n1
  movw $0x3f9, %dx; xorb %al,%al; outb %al,%dx
  movw $0x3fb, %dx; movb $0x80,%al; outb %al,%dx
  movw $0x3f8, %dx; movb $1,%al; outb %al,%dx
  movw $0x3f9, %dx; xorb %al,%al; outb %al,%dx
  movw $0x3fb, %dx; movb $3,%al; outb %al,%dx
.ifdef FAT                  # flat 4 GiB limit in %fs ("unreal mode"), then make every page of 1..15 MiB non-zero
  cli
  lgdtl gdtr-0x200
  movl %cr0, %eax
  orb $1, %al
  movl %eax, %cr0
  movw $8, %bx
  movw %bx, %fs
  andb $0xfe, %al
  movl %eax, %cr0
  sti
  movl $0x1234567, %ebp
  call touch
.endif
  # nonce = tsc low xor rtc
  rdtsc
  movl %eax, nonce-0x200
  movl $0, count-0x200
  call tick
  movl %eax, last-0x200
loop:
  hlt
.ifdef BUSY                 # rewrite one word in every page of 1..15 MiB on every timer tick: 65000 pages/s asked for
  call touch
.endif
  call tick
  movl %eax, %ebx
  subl last-0x200, %ebx
  cmpl $18, %ebx
  jb   loop
  movl %eax, last-0x200
  incl count-0x200
  movl nonce-0x200, %eax
  call hex
  movb $' ', %al
  call putc
  movl count-0x200, %eax
  call hex
  movb $'\r', %al
  call putc
  movb $'\n', %al
  call putc
  jmp loop
.ifdef FAT
touch:
  movl $0x100000, %edi
4: addl $0x9e3779b1, %ebp
  movl %ebp, %fs:(%edi)
  addl $0x1000, %edi
  cmpl $0xf00000, %edi
  jb 4b
  ret
  .balign 8
gdt: .quad 0, 0x00cf92000000ffff
gdtr: .word 15
  .long gdt-_start+0x90000   # QEMU loads this header at 0x90000
.endif
tick:                # BIOS tick counter 0040:006c (18.2 Hz)
  pushw %ds
  movw $0x40, %ax
  movw %ax, %ds
  movl 0x6c, %eax
  popw %ds
  ret
hex:
  movw $8, %cx
1: roll $4, %eax
  pushl %eax
  andb $15, %al
  cmpb $10, %al
  sbbb $0x69, %al
  das
  call putc
  popl %eax
  loop 1b
  ret
putc:
  pushw %ax
  movw $0x3fd, %dx
2: inb %dx, %al
  testb $0x20, %al
  jz 2b
  popw %ax
  movw $0x3f8, %dx
  outb %al, %dx
  ret
nonce: .long 0
count: .long 0
last:  .long 0
  .org 0xa00         # end of setup; "kernel" payload
  .fill 512,1,0x90
GUEST_S
  for k in guest fat busy; do
    d=; [ $k != guest ] && d="--defsym FAT=1"; [ $k = busy ] && d="$d --defsym BUSY=1"
    as --32 $d -o "$GUEST/$k.o" "$GUEST/guest.S" && ld -m elf_i386 -Ttext 0 --oformat binary -o "$GUEST/$k.bin" "$GUEST/$k.o" || die "guest $k"
    rm "$GUEST/$k.o"
  done
}
# apt repository of self-made packages: tide-gauge has a service, keel asks for a restart of the host, reef's own script fails, anchor's takes its time, and buoy comes along with fender
deb() { local name=$1 v=$2 field=$3 post=$4 daemon=${5:-} d
  d=$(mktemp -d); chmod 755 "$d"; mkdir -p "$d/DEBIAN" "$d/usr/bin"
  printf 'Package: %s\nVersion: %s\nArchitecture: all\nMaintainer: Lab <lab@example.invalid>\n%bDescription: self-made test package\n' "$name" "$v" "${field:+$field\n}" >"$d/DEBIAN/control"
  printf '#!/bin/sh\necho %s %s\n' "$name" "$v" >"$d/usr/bin/$name"; chmod 755 "$d/usr/bin/$name"
  [ -n "$daemon" ] && mkdir -p "$d/usr/sbin" && cp "$BASE/usr/bin/sleep" "$d/usr/sbin/${name}d" && printf 'This is %s %s\n' "$name" "$v" >>"$d/usr/sbin/${name}d" &&
    mkdir -p "$d/usr/lib/systemd/system" && printf '[Service]\nExecStart=/usr/sbin/%sd infinity\n' "$name" >"$d/usr/lib/systemd/system/$name.service"
  [ -n "$post" ] && printf '#!/bin/sh\n[ "$1" = configure ] || exit 0\n%s\n' "$post" >"$d/DEBIAN/postinst" && chmod 755 "$d/DEBIAN/postinst"
  dpkg-deb --root-owner-group -b "$d" "$REPO/${name}_${v}_all.deb" >/dev/null || die "deb"; rm -rf "$d"
}
# the hosts' own emulator once more, as another version of it
emulator() { local d=$REPO/.emulator f
  rm -rf "$d"; mkdir -p "$d/DEBIAN"
  while read -r f; do [ -d "$BASE$f" ] && [ ! -L "$BASE$f" ] || [ "$f" = /. ] || { mkdir -p "$d$(dirname "$f")"; cp -a "$BASE$f" "$d$f"; }; done <"$BASE/var/lib/dpkg/info/qemu-system-x86.list"
  chroot "$BASE" dpkg-query -s qemu-system-x86 | sed -e '/^Status:/d; /^Conffiles:/,/^[^ ]/{/^Conffiles:/d; /^ /d}' -e 's/^Version: .*/&+lab2/' >"$d/DEBIAN/control"
  dpkg-deb --root-owner-group -Zgzip -z1 -b "$d" "$REPO/qemu-system-x86_lab2.deb" >/dev/null || die "deb of the emulator"; rm -rf "$d"
}
need_repo() { local v
  [ -s "$REPO/Packages" ] && [ "$REPO/Packages" -nt "$SELF" ] && return
  rm -rf "$REPO"; mkdir -p "$REPO"
  for v in 1.0 2.0; do
    deb tide-gauge $v '' '' daemon
    deb keel $v '' "$([ $v = 2.0 ] && echo 'touch /run/reboot-required; echo keel >>/run/reboot-required.pkgs')"
    deb fender $v "$([ $v = 2.0 ] && echo 'Depends: buoy')" ''
  done
  deb buoy 1.0 '' ''
  deb anchor 1.0 '' 'sleep 12'
  deb reef 1.0 '' 'echo "the reef is hit" >&2; exit 1'
  emulator
  (cd "$REPO" && dpkg-scanpackages -m . /dev/null >Packages 2>/dev/null) || die "dpkg-scanpackages (package dpkg-dev)"
}

need_net() {
  ip netns list | grep -qw "$OP" || ip netns add "$OP"
  ip -n "$OP" link set lo up
  ip -n "$OP" link show $BR >/dev/null 2>&1 || { ip -n "$OP" link add $BR type bridge; ip -n "$OP" addr add $NET.1/24 dev $BR; ip -n "$OP" link set $BR up; }
}

host_net() { local h=$1 n; n=$(num "$h")
  ip netns list | grep -qw "$P-$h" && return
  ip netns add "$P-$h"
  ip -n "$OP" link add "$P-$h" type veth peer name eth0 netns "$P-$h" || die "no network for $h"
  ip -n "$OP" link set "$P-$h" master $BR up
  ip -n "$P-$h" link set lo up; ip -n "$P-$h" addr add "$NET.$((10+n))/24" dev eth0; ip -n "$P-$h" link set eth0 up
}

host_files() { local h=$1 n d u i; n=$(num "$h"); d=$LAB/hosts/$h; u=$d/upper
  mkdir -p "$u" "$d/work" "$d/root"
  [ -e "$u/.lab-host" ] && return
  mkdir -p "$u"/{etc/libvirt,etc/ssh,etc/apt,root/.ssh,sbin,usr/sbin,shared,srv/repo,var/log/libvirt}
  if [ -L "$BASE/sbin" ]; then rmdir "$u/sbin"; fi
  echo "$h" >"$u/etc/hostname"
  { echo "127.0.0.1 localhost"; for i in 1 2 3 4 5 6; do echo "$NET.$((10+i)) h$i"; done; } >"$u/etc/hosts"
  cat >"$u/etc/libvirt/libvirtd.conf" <<E
listen_tls = 0
listen_tcp = 1
listen_addr = "0.0.0.0"
tcp_port = "16509"
auth_tcp = "none"
auth_unix_rw = "none"
host_uuid = "$(printf '00000000-0000-4000-8000-0000000000%02d' "$n")"
log_outputs = "3:file:/var/log/libvirt/libvirtd.log"
keepalive_interval = 5
keepalive_count = 3
E
  cat >"$u/etc/libvirt/qemu.conf" <<E
user = "root"
group = "root"
security_driver = "none"
namespaces = []
cgroup_controllers = []
dynamic_ownership = 0
remember_owner = 0
stdio_handler = "file"
migration_host = "$NET.$((10+n))"
keepalive_interval = 2
keepalive_count = 3
E
  ssh-keygen -q -t ed25519 -N '' -C "$h" -f "$u/etc/ssh/ssh_host_ed25519_key"
  printf 'HostKey /etc/ssh/ssh_host_ed25519_key\nPermitRootLogin prohibit-password\nPasswordAuthentication no\nUsePAM no\nUseDNS no\nPidFile /run/sshd.pid\nSubsystem sftp internal-sftp\n' >"$u/etc/ssh/sshd_config"
  cp "$LAB/id_ed25519.pub" "$u/root/.ssh/authorized_keys"; cp "$LAB/id_ed25519" "$u/root/.ssh/id_ed25519"
  printf 'StrictHostKeyChecking no\nUserKnownHostsFile /dev/null\nLogLevel ERROR\n' >"$u/root/.ssh/config"
  chmod 700 "$u/root" "$u/root/.ssh"; chmod 600 "$u/root/.ssh/id_ed25519" "$u/root/.ssh/config"
  rm -rf "$u/etc/apt/sources.list.d"; mkdir -p "$u/etc/apt"
  echo 'deb [trusted=yes] file:///srv/repo ./' >"$u/etc/apt/sources.list"
  cat >"$u/usr/sbin/lab-svc" <<'E'
#!/bin/bash
# lab-svc start|stop|crash|restart|status libvirtd|sshd|NAME : the host's whole service manager. NAME's program is NAMEd, and it runs in a cgroup of its own, as a unit's would
svc=$2; case $svc in
 libvirtd) cmd=(/usr/sbin/libvirtd --listen --pid-file /run/libvirtd.pid); pf=/run/libvirtd.pid;;
 sshd) cmd=(/usr/sbin/sshd -D -E /var/log/sshd.log); pf=/run/sshd.pid;; *) [ -x "/usr/sbin/${svc}d" ] || exit 2; cmd=("/usr/sbin/${svc}d" infinity); pf=/run/$svc.pid;; esac
own() { [ ! -x "/usr/sbin/${svc}d" ] || { g=/sys/fs/cgroup/system.slice/$svc.service; mkdir -p $g && echo $BASHPID >$g/cgroup.procs; echo $BASHPID >$pf; }; }
up() { [ -s $pf ] && kill -0 "$(cat $pf)" 2>/dev/null; }
case $1 in
 start) up || { (own; exec "${cmd[@]}" </dev/null >>/var/log/$svc.out 2>&1) & disown; };;
 stop) up && { p=$(cat $pf); kill "$p"; for i in {1..900}; do kill -0 "$p" 2>/dev/null || break; sleep .1; done; kill -9 "$p" 2>/dev/null; rm -f $pf; };;
 crash) up && kill -9 "$(cat $pf)"; rm -f $pf;;
 restart) $0 stop $svc; $0 start $svc;;
 status) up && echo "$svc running $(cat $pf)" || { echo "$svc stopped"; exit 3; };;
esac
exit 0
E
  cat >"$u/usr/sbin/lab-init" <<'E'
#!/bin/bash
# PID 1 of a host. USR1 = reboot (exit 42), TERM = power off (exit 0); its death kills all of the host.
rc=; trap 'rc=42' USR1; trap 'rc=0' TERM
export PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LC_ALL=C.UTF-8
mkdir -p /run/sshd /run/lock /run/libvirt
lab-svc start sshd; lab-svc start libvirtd; lab-svc start tide-gauge
while [ -z "$rc" ]; do sleep 86400 & wait $!; done
lab-svc stop libvirtd
exit "$rc"
E
  printf '#!/bin/sh\nexec lab-svc "$2" "${1%%.service}"\n' >"$u/usr/sbin/service"
  printf '#!/bin/sh\n[ "$(cat /proc/1/comm)" = lab-init ] && exec kill -USR1 1\n' >"$u/usr/sbin/reboot"
  printf '#!/bin/sh\n[ "$(cat /proc/1/comm)" = lab-init ] && exec kill -TERM 1\n' >"$u/usr/sbin/poweroff"
  chmod 755 "$u"/usr/sbin/{lab-svc,lab-init,reboot,poweroff,service}
  echo "$BASE" >"$d/base"; touch "$u/.lab-host"
}

# runs inside the fresh namespaces, as PID 1, before the host's own init
_boot() { local h=$1 d=$LAB/hosts/$1 r; r=$d/root
  mount --make-rprivate /
  mount -t overlay "lab-$h" -o "lowerdir=$(cat "$d/base"),upperdir=$d/upper,workdir=$d/work" "$r" || exit 1
  mount -t proc proc "$r/proc"; mount -t sysfs -o ro sysfs "$r/sys"; mount -t cgroup2 cgroup2 "$r/sys/fs/cgroup"
  mount -t tmpfs -o mode=755 dev "$r/dev"; mkdir "$r/dev/pts" "$r/dev/shm" "$r/dev/net"
  while read -r n t a b m; do mknod -m "$m" "$r/dev/$n" "$t" "$a" "$b"; done <<'E'
null c 1 3 666
zero c 1 5 666
full c 1 7 666
random c 1 8 666
urandom c 1 9 666
tty c 5 0 666
net/tun c 10 200 666
E
  mount -t devpts -o newinstance,ptmxmode=666,mode=620 devpts "$r/dev/pts"; ln -s pts/ptmx "$r/dev/ptmx"
  ln -s /proc/self/fd "$r/dev/fd"; ln -s fd/0 "$r/dev/stdin"; ln -s fd/1 "$r/dev/stdout"; ln -s fd/2 "$r/dev/stderr"
  mount -t tmpfs shm "$r/dev/shm"; mount -t tmpfs -o mode=755 run "$r/run"
  mkdir -p "$r/shared" "$r/srv/repo"; mount --bind "$LAB/shared" "$r/shared"; mount --bind -o ro "$REPO" "$r/srv/repo"
  cat /proc/sys/kernel/random/uuid >"$r/run/boot_id"; mount --bind "$r/run/boot_id" "$r/proc/sys/kernel/random/boot_id"
  hostname "$h"
  mkdir -p "$r/.old"; cd "$r" && pivot_root . .old && umount -l /.old 2>/dev/null
  exec chroot . /usr/sbin/lab-init </dev/null >>/var/log/init.log 2>&1
}

# one per host, outside: starts it, restarts it when its init asks for a reboot
_supervise() { local h=$1 d=$LAB/hosts/$1 rc
  while :; do
    ip -n "$OP" link set "$P-$h" up
    mkdir -p "/sys/fs/cgroup/yare-lab/$P-$h"                # a tree of control groups of its own, as on a machine of its own
    sh -c 'echo $$ >"$1/cgroup.procs"; shift; exec "$@"' grouped "/sys/fs/cgroup/yare-lab/$P-$h" \
      ip netns exec "$P-$h" unshare --mount --uts --ipc --pid --cgroup --fork --kill-child=KILL --time --boottime "-$(cut -d. -f1 /proc/uptime)" \
      "$SELF" _boot "$h" & note_pid $! "$d/pid"
    wait $!; rc=$?
    echo "$(date +%T.%N) $h ended rc=$rc" >>"$d/supervise.log"
    [ "$rc" = 42 ] || break
    sleep "${LAB_BOOT_DELAY:-1}"
  done
  rm -f "$d/pid" "$d/sup"
}
power_on() { local h=$1 d=$LAB/hosts/$1
  alive "$d/sup" && return
  alive "$d/pid" && kill -KILL "$(pid_of "$d/pid")"        # its supervisor died: start afresh
  setsid "$SELF" _supervise "$h" </dev/null >>"$d/supervise.log" 2>&1 & note_pid $! "$d/sup"
}
power_off() { local d=$LAB/hosts/$1 i
  ip -n "$OP" link set "$P-$1" down 2>/dev/null
  killpid "$d/pid" KILL
  for i in {1..100}; do alive "$d/sup" || break; sleep .05; done
}
waitport() { local i; for i in {1..200}; do ip netns exec "$OP" timeout 1 bash -c "exec 3<>/dev/tcp/$1/$2" 2>/dev/null && return; sleep .05; done; return 1; }
ready() { local a; a=$NET.$((10+$(num "$1"))); waitport "$a" 16509 && waitport "$a" 22; }

need_all() { (flock 8; need_base; need_guest; need_repo; need_net) 8>"$TOP/lock" || exit 1; }   # what labs share, by one at a time

up() { local n=${1:-3} i h
  need_all; mkdir -p "$LAB/hosts" "$LAB/shared/log"
  [ -e "$LAB/id_ed25519" ] || ssh-keygen -q -t ed25519 -N '' -f "$LAB/id_ed25519"
  cp "$GUEST"/*.bin "$LAB/shared/"
  { printf 'Host *\n User root\n IdentityFile %s/id_ed25519\n StrictHostKeyChecking no\n UserKnownHostsFile /dev/null\n LogLevel ERROR\n' "$LAB"; for i in 1 2 3 4 5 6; do printf 'Host h%d\n HostName %s.%d\n' $i $NET $((10+i)); done; } >"$LAB/ssh_config"
  for ((i=1;i<=n;i++)); do h=h$i; host_files $h; host_net $h; done
  for h in $(hosts); do echo "$h,$NET.$((10+$(num "$h"))) $(cut -d' ' -f1,2 "$LAB/hosts/$h/upper/etc/ssh/ssh_host_ed25519_key.pub")"; done >"$LAB/known_hosts"
  for ((i=1;i<=n;i++)); do power_on h$i; done
  for ((i=1;i<=n;i++)); do ready h$i || die "h$i did not come up; see $LAB/hosts/h$i/upper/var/log"; done
}
halt() { local h; for h in $(hosts); do power_off "$h"; ip -n "$OP" link del "$P-$h" 2>/dev/null; ip netns del "$P-$h" 2>/dev/null; done; }
down() { halt
  find /sys/fs/cgroup -path '*/yare-lab*' -type d -depth -exec rmdir {} + 2>/dev/null
  ip netns list | grep -qw "$OP" && ip netns del "$OP"
  return 0
}
# the base's own virsh, run in the operator's namespace (the machine itself needs no libvirt package)
vsh() { ip netns exec "$OP" chroot "$BASE" virsh -q "$@"; }
uri() { echo "qemu+tcp://$NET.$((10+$(num "$1")))/system"; }
status() { local h d p
  for h in $(hosts); do d=$LAB/hosts/$h; p=$(alive "$d/pid" && pid_of "$d/pid")
    printf '%-4s %s.%d  %s  ' "$h" "$NET" $((10+$(num "$h"))) "${p:+on, pid $p}"; [ -z "$p" ] && { echo off; continue; }
    vsh -c "$(uri "$h")" list --name 2>&1 | tr '\n' ' '; echo
  done; }
guest_xml() { cat <<E
<domain type='qemu'><name>$1</name><memory unit='MiB'>${2:-16}</memory><vcpu>1</vcpu>
<os><type arch='x86_64' machine='pc'>hvm</type><kernel>/shared/${3:-guest}.bin</kernel></os>
<features><acpi/></features><clock offset='utc'/>
<devices><emulator>/usr/bin/qemu-system-x86_64</emulator>
<controller type='usb' model='none'/><memballoon model='none'/>
<serial type='file'><source path='/shared/log/$1.log' append='on'/></serial></devices></domain>
E
}
guests() { local h=$1 k=$2 kind=${3:-guest} i n c=; n=$(num "$h")
  for ((i=1;i<=k;i++)); do guest_xml "g$n-$i" 16 "$kind" >"$LAB/shared/g$n-$i.xml"; c="$c virsh -q define /shared/g$n-$i.xml; virsh -q start g$n-$i;"; done
  "$SELF" sh "$h" "$c"; }

v=${1:-}; [ $# -gt 0 ] && shift
case $v in
 up) up "$@";; down) down;; reset) halt; rm -rf "$LAB";; clean) down; rm -rf "$LAB";; status) status;;
 exec) exec ip netns exec "$OP" "$@";;
 sh) h=$1; shift; exec ip netns exec "$OP" ssh -F "$LAB/ssh_config" "$h" "$@";;
 off) power_off "$1";; on) power_on "$1"; ready "$1";; cycle) power_off "$1"; sleep "${LAB_BOOT_DELAY:-1}"; power_on "$1"; ready "$1";;
 cut) ip -n "$OP" link set "$P-$1" down;; uncut) ip -n "$OP" link set "$P-$1" up;;
 guests) guests "$@";; xml) guest_xml "$@";; base) need_base;;
 build) need_all;;
 _boot|_supervise) "$v" "$@";;
 *) sed -n 2,15p "$0"; exit 2;;
esac
