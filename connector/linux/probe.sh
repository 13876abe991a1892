#!/bin/sh
# Prints what a Linux machine tells of itself, for a reader elsewhere. It only looks: nothing is written, not even a temporary file. "yare host prepare" puts it on a host as
# /var/lib/yare/probe, so that a login can be let run it as root and nothing else; where it is not there the reader sends it over standard input. It is called with
#   [within SECONDS] SECONDS SECTION…     how long the whole may take, how long each command in it, and what to look at
# What it meets may have been named by anybody who may log in here: names of files, programs and units are data. No such word becomes part of a command; a name that holds a control
# character is left out; each record is bounded, so that nobody can fill the answer.
# Each line of the answer is a name, a NUL, and a text:
#   /PATH   a line of the file          @/PATH  where the symbolic link leads; nothing where it leads nowhere or may not be seen
#   +/PATH  the name is there           !/PATH  it is there and may not be seen
#   $NAME   a line that a command printed; +$NAME when it has ended well      ?NAME  what it said when it failed
#   =gone   a process, and a file that it runs and that was replaced or removed since; "+" instead of the file where there are more
#   =late   which section's command had to be ended, and the command          =cut   which section has more of something than is told, and of what
#   =WORD   what is said about the probe itself; the last line is =end
set -u
[ "$(id -u)" != 0 ] || PATH=/usr/sbin:/usr/bin:/sbin:/bin
LC_ALL=C PATH=$PATH:/usr/sbin:/sbin
export LC_ALL PATH
number() { case $1 in '' | *[!0-9]* | ?????*) echo "probe: \"$1\" is no number of seconds" >&2 && exit 2 ;; esac; }
if [ "${1-}" = within ]; then
	number "${2-}"
	within=$2
	shift 2
	exec timeout -k 1 "$within" "$0" "$@"
fi
number "${1-}"
limit=$1
shift
want=" $* " section=host
most=4194304 # bytes of what one command prints

late() { printf '\n=late\0%s %s\n' "$section" "$*"; }
bounded() {
	timeout -k 1 "$limit" "$@" </dev/null
	rc=$?
	[ "$rc" != 124 ] && [ "$rc" != 137 ] && return "$rc"
	late "$1"
	return 124
}
# upto passes on so many bytes, and says where there are more.
upto() {
	head -c "$1"
	[ "$(head -c 1 | wc -c)" = 0 ] || printf '\n=cut\0%s %s\n' "$section" "$2"
}
# show prints files; names with control characters in them are left out.
show() {
	case "$*" in *[[:cntrl:]]*)
		for f in "$@"; do
			shift
			case $f in *[[:cntrl:]]*) ;; *) set -- "$@" "$f" ;; esac
		done
		;;
	esac
	bounded grep -asZH -d skip '' -- "$@"
}
# over runs a command with the names on its input, each ended by a NUL, behind its words.
over() {
	timeout -k 1 "$limit" xargs -0 -r "$@"
	rc=$?
	[ "$rc" = 124 ] || [ "$rc" = 137 ] && late "$1"
	return 0
}
denied() { for f in "$@"; do [ -e "$f" ] && [ ! -r "$f" ] && printf '!%s\0\n' "$f"; done; }
names() {
	for f in "$@"; do
		case $f in *[[:cntrl:]]*) continue ;; esac
		if [ -e "$f" ] || [ -L "$f" ]; then printf '+%s\0\n' "$f"; fi
	done
}
# ask runs a command and prints what it says under the name in front of it.
ask() {
	name=$1
	shift
	command -v "$1" >/dev/null 2>&1 || return 0
	{
		rc=$({
			{
				timeout -k 1 "$limit" "$@" 2>/dev/null </dev/null 3>&- 4>&-
				echo $? >&3
			} | head -c "$most" | grep -asZH --label="\$$name" '' >&4
		} 3>&1)
	} 4>&1
	case $rc in
	0) printf '+$%s\0\n' "$name" ;;
	124 | 137) printf '?%s\0it did not end within %s s\n' "$name" "$limit" ;;
	141) printf '?%s\0it prints more than %s bytes\n' "$name" "$most" ;;
	*) printf '?%s\0%s\n' "$name" "$(timeout -k 1 "$limit" "$@" 2>&1 >/dev/null </dev/null | head -c 4096 | head -n 1)" ;;
	esac
}
wants() {
	for section in "$@"; do
		case $want in *" $section "*) return 0 ;; esac
	done
	return 1
}

printf '=probe\0\n'
show /proc/sys/kernel/osrelease /proc/sys/kernel/random/boot_id

if wants host; then
	show /proc/uptime /proc/meminfo /proc/cpuinfo /etc/os-release /usr/lib/os-release /etc/machine-id /sys/class/net/*/bridge/bridge_id \
		/var/lib/yare/private/guard /var/lib/yare/private/owed /var/lib/yare/mark /etc/libvirt/hooks/qemu.d/yare
	denied /var/lib/yare/private /var/lib/yare/mark
	set -- /var/lib/yare/private/staged -maxdepth 1 -type f -printf '%f %s\n'
	[ ! -d "$1" ] || ask "find $*" find "$@"
	set -- /var/lib/yare/probe /var/lib/yare/wrapper
	[ ! -e "$2" ] || ask "sha256sum $*" sha256sum "$@"
fi
if wants host packages; then
	names /boot/vmlinuz-*
fi
if wants settings; then
	set -- /etc/resolv.conf /run/systemd/resolve/resolv.conf /etc/chrony/chrony.conf /etc/chrony.conf /etc/ntp.conf \
		/etc/ntpsec/ntp.conf /etc/systemd/timesyncd.conf /etc/chrony/sources.d/*.sources
	show /proc/cmdline "$@"
	denied "$@"
	set --
	for f in kernel/hung_task_timeout_secs kernel/nmi_watchdog kernel/numa_balancing kernel/panic kernel/panic_on_oops kernel/softlockup_panic kernel/watchdog_thresh \
		net/core/netdev_max_backlog net/core/rmem_max net/core/somaxconn net/core/wmem_max vm/dirty_background_ratio vm/dirty_ratio vm/max_map_count vm/swappiness vm/zone_reclaim_mode; do
		set -- "$@" "/proc/sys/$f"
	done
	show "$@"
	denied "$@"
	bounded find /etc/localtime ! -lname '*[[:cntrl:]]*' -printf '@%p\0%l\n' 2>/dev/null
	names /etc/systemd/system/*.wants/*.service
	ask 'nft list ruleset' nft list ruleset
	ask 'iptables -S INPUT' iptables -S INPUT
fi
if wants log; then # nobody asks for this with the rest
	lines() {
		for f in "$@"; do
			case $f in *[[:cntrl:]]*) continue ;; esac
			[ ! -r "$f" ] || ask "log $f" tail -n 40 -- "$f"
		done
		denied "$@"
	}
	lines /var/log/apt/term.log /var/log/dpkg.log /var/log/dnf.rpm.log /var/log/libvirt/libvirtd.log
	ask 'log journal' journalctl -q --no-pager -o short-iso -n 40 -u libvirtd -u virtqemud
	IFS='
'
	set -f
	lines $(bounded find /var/log/libvirt/qemu -maxdepth 1 -name '*.log' ! -name '*[[:cntrl:]]*' -mmin -15 2>/dev/null | head -n 4)
	set +f
	unset IFS
fi
if wants condition; then
	set -- /etc/pki/CA/cacert.pem /etc/pki/libvirt/*.pem /etc/pki/qemu/*.pem
	show /proc/mounts /proc/mdstat /proc/net/bonding/* "$@"
	denied "$@"
	ask 'date +%s' date +%s
	ask 'df -Plm' df -Plm
	ask 'ip neigh' ip neigh
	show /sys/block/mmcblk*/device/life_time /sys/block/nvme*n1/queue/rotational /sys/block/sd*/queue/rotational
	names /sys/block/nvme*n1 /sys/block/sd*
	for f in /sys/block/nvme*n1 /sys/block/sd*; do
		f=${f##*/}
		case $f in *[!a-z0-9]*) continue ;; esac
		ask 'sh -c smartctl -jA "$1" || : sh '"/dev/$f" sh -c 'smartctl -jA "$1" || :' sh "/dev/$f" # of a disk that ails its exit status is not 0
	done
fi
if wants drivers firmware; then
	show /sys/bus/pci/devices/*/uevent /sys/bus/pci/devices/*/vendor /sys/bus/pci/devices/*/device /sys/bus/pci/devices/*/class
fi
if wants drivers; then
	show /sys/module/*/version
fi
if wants firmware; then
	show /sys/class/dmi/id/bios_version /sys/class/dmi/id/ec_firmware_release /sys/class/dmi/id/sys_vendor /sys/class/dmi/id/product_name /sys/class/dmi/id/product_serial \
		/sys/class/nvme/*/model /sys/class/nvme/*/firmware_rev /sys/block/sd*/device/model /sys/block/sd*/device/rev \
		/sys/class/infiniband/*/board_id /sys/class/infiniband/*/fw_ver /sys/class/net/*/device/uevent
	denied /sys/class/dmi/id/product_serial
	for f in /sys/class/net/*/device/uevent; do
		i=${f#/sys/class/net/}
		i=${i%%/*}
		case $i in -* | *[![:graph:]]*) continue ;; esac
		[ ! -e "$f" ] || ask "ethtool -i $i" ethtool -i "$i"
	done
fi
if wants packages; then
	bounded grep -asZHE '^(Package|Status|Architecture|Version|Source):|^$' /var/lib/dpkg/status | upto 16777216 /var/lib/dpkg/status
	denied /var/lib/dpkg/status
	ask 'rpm -qa' rpm -qa --qf '%{NAME}\t%{EPOCHNUM}\t%{VERSION}\t%{RELEASE}\t%{ARCH}\n'
	# the units that packages bring
	bounded grep -asZHE '^(/usr)?/lib/systemd/system/[^/]+\.service$|^/etc/init\.d/[^/]+$' /var/lib/dpkg/info/*.list
	if command -v rpm >/dev/null; then
		bounded rpm -q -f --qf '[%{=NAME} %{FILENAMES}\n]' -- /usr/lib/systemd/system/*.service 2>/dev/null |
			grep -asE '^[^/]+ /usr/lib/systemd/system/[^/]+\.service$' | sort -u | grep -asZH --label='$rpm -q -f' '' | upto "$most" units
		printf '+$rpm -q -f\0\n'
	fi
fi

# Processes of the system's own services, and emulators that libvirt has written down. All others belong to somebody, end when they do, and may call themselves anything: they are not
# looked at.
if wants packages settings; then
	service='^(0::|[0-9]+:name=systemd:)/system\.slice/(system-[^/]+\.slice/)?[^/]+\.service(/|$)'
	find /proc -maxdepth 1 -name '[0-9]*' -printf '/proc/%f/cgroup\0' | over grep -asoZHE "$service" -- | upto "$most" 'processes of services'
	denied /run/libvirt/qemu
	show /run/libvirt/qemu/*.pid
	pids=$({
		find /proc -maxdepth 1 -name '[0-9]*' -printf '/proc/%f/cgroup\0' | over grep -aslE "$service" -- | sed -n 's|^/proc/\([0-9]*\)/cgroup$|\1|p'
		cat /run/libvirt/qemu/*.pid 2>/dev/null | sed -n 's/^ *\([0-9][0-9]*\) *$/\1/p'
	} | sort -un | head -n 20000)
	of() { for p in $pids; do printf '/proc/%s/%s\0' "$p" "$1"; done; }
	links() { of exe | timeout -k 1 "$limit" xargs -0 -r sh -c 'exec find "$@" -maxdepth 0 ! -lname "*[[:cntrl:]]*" -printf "@%p\0%l\n"' sh; }
	links 2>/dev/null | upto "$most" programs
	links 2>&1 >/dev/null | sed -n "s/^find: '\(\/proc\/[0-9]*\/exe\)': Permission denied\$/\1/p" | while read -r f; do printf '!%s\0\n' "$f"; done
fi
if wants packages; then
	# A package's file is in one of few directories. Of a process no more than 64 count; process 0 stands for those that there was no time for.
	gone=$({
		of maps | timeout -k 1 "$limit" xargs -0 -r grep -asHE '^[^ ]+ ..x. [^/]*/(usr|opt|lib[^/]*|bin|sbin)/.* \(deleted\)$' --
		rc=$?
		[ "$rc" = 124 ] || [ "$rc" = 137 ] && echo late
	} | awk '
		/^late$/ { print "0 +"; next }
		{ pid = substr($0, 7); sub(/\/.*/, "", pid); path = substr($0, index($0, ":") + 1)
		  path = substr(path, index(path, "/")); sub(/ \(deleted\)$/, "", path) }
		length(path) > 1024 || path ~ /[[:cntrl:]]/ || seen[pid, path]++ { next }
		++n[pid] == 65 { print pid " +" }
		n[pid] <= 64 { print pid " " path }' | head -c "$most")
	[ -z "$gone" ] || printf '%s\n' "$gone" | grep -asZH --label='=gone' ''
	alike=$({
		printf '%s\n' "$gone" | sed -n 's/^[0-9]* \//\//p'
		links 2>/dev/null | tr '\0' '\n' | sed -n 's|^\(/.*\) (deleted)$|\1|p'
	} | sort -u | sed 'p; s|^/usr/|/|; t; s|^|/usr|' | head -c 65536) # where /bin and the like are links, databases have either
	if [ -n "$alike" ]; then
		bounded grep -asZHxF -e "$alike" /var/lib/dpkg/info/*.list
		if command -v rpm >/dev/null; then
			bounded rpm -q -a --qf '[%{=NAME} %{FILENAMES}\n]' 2>/dev/null |
				grep -asZHF --label='$rpm -q -a' -e "$(printf '%s\n' "$alike" | sed 's/^/ /')" | upto "$most" 'owners of replaced files'
			printf '+$rpm -q -a\0\n'
		fi
	fi
fi

printf '=end\0\n'
