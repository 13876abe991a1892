# Prints what a Linux machine tells of itself, for a reader elsewhere. It only looks: nothing is written, not even a temporary file, and no command of it
# runs longer than $limit seconds. $want names the sections to look for; the reader sets both before this.
# Each line is a name, a NUL, and a text:
#   /PATH   a line of the file          @/PATH  where the symbolic link leads; nothing where it leads nowhere or may not be seen
#   +/PATH  the name is there           !/PATH  it is there and may not be seen
#   $NAME   a line that a command printed    ?NAME  what it said when it failed
#   =late   which section's command had to be ended, and the command
#   =WORD   what is said about the probe itself; the last line is =end
LC_ALL=C PATH=$PATH:/usr/sbin:/sbin
export LC_ALL PATH
: "${want:=host packages drivers firmware settings condition}" "${limit:=4}"

late() { printf '=late\0%s %s\n' "$section" "$*"; }
bounded() {
	timeout -k 1 "$limit" "$@" </dev/null
	rc=$?
	[ "$rc" != 124 ] && [ "$rc" != 137 ] && return "$rc"
	late "$1 ${2-}"
	return 124
}
show() { bounded grep -asZH -d skip '' "$@"; }
denied() { for f in "$@"; do [ -e "$f" ] && [ ! -r "$f" ] && printf '!%s\0\n' "$f"; done; }
names() { for f in "$@"; do if [ -e "$f" ] || [ -L "$f" ]; then printf '+%s\0\n' "$f"; fi; done; }
ask() {
	name=$1
	shift
	command -v "$1" >/dev/null 2>&1 || return 0
	out=$(timeout -k 1 "$limit" "$@" 2>/dev/null </dev/null)
	case $? in
	0)
		printf '+$%s\0\n' "$name"
		printf '%s\n' "$out" | grep -aZH --label="\$$name" ''
		;;
	124 | 137) printf '?%s\0it did not end within %s s\n' "$name" "$limit" ;;
	*) printf '?%s\0%s\n' "$name" "$(timeout -k 1 "$limit" "$@" 2>&1 >/dev/null </dev/null | head -n 1)" ;;
	esac
}
wants() {
	for section in $want; do
		case " $* " in *" $section "*) return 0 ;; esac
	done
	return 1
}

printf '=probe\0\n'
section=host
show /proc/sys/kernel/osrelease /proc/sys/kernel/random/boot_id

if wants host; then
	show /proc/uptime /proc/meminfo /proc/cpuinfo /etc/os-release /usr/lib/os-release /sys/class/net/*/bridge/bridge_id \
		/var/lib/yare/guard /var/lib/yare/mark /etc/libvirt/hooks/qemu.d/yare
	denied /var/lib/yare/guard /var/lib/yare/mark
	names /var/lib/yare/wrapper-*
fi
if wants host packages; then
	names /boot/vmlinuz-*
fi
if wants settings; then
	set -- /etc/resolv.conf /run/systemd/resolve/resolv.conf /etc/chrony/chrony.conf /etc/chrony.conf /etc/ntp.conf \
		/etc/ntpsec/ntp.conf /etc/systemd/timesyncd.conf /etc/chrony/sources.d/*.sources
	show /proc/cmdline "$@"
	denied "$@"
	bounded find /etc/localtime -printf '@%p\0%l\n' 2>/dev/null
	names /etc/systemd/system/*.wants/*.service
	ask 'nft list ruleset' nft list ruleset
	ask 'iptables -S INPUT' iptables -S INPUT
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
	for f in /sys/block/nvme*n1 /sys/block/sd*; do # of a disk that ails its exit status is not 0
		[ -e "$f" ] && ask "sh -c smartctl -jA /dev/${f##*/} || :" sh -c "smartctl -jA /dev/${f##*/} || :"
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
		if [ -e "$f" ]; then
			i=${f#/sys/class/net/}
			i=${i%%/*}
			ask "ethtool -i $i" ethtool -i "$i"
		fi
	done
fi
if wants packages; then
	bounded grep -asZHE '^(Package|Status|Architecture|Version|Source):|^$' /var/lib/dpkg/status
	denied /var/lib/dpkg/status
	ask 'rpm -qa' rpm -qa --qf '%{NAME}\t%{EPOCHNUM}\t%{VERSION}\t%{RELEASE}\t%{ARCH}\n'
fi

if wants packages settings; then
	bounded find /proc -maxdepth 2 -regex '/proc/[0-9]+/exe' -printf '@%p\0%l\n' 2>/dev/null
	bounded find /proc -maxdepth 2 -regex '/proc/[0-9]+/exe' -printf '%l' 2>&1 >/dev/null | sed -n "s/^find: '\(.*\)': Permission denied\$/\1/p" |
		while read -r f; do printf '!%s\0\n' "$f"; done
	show /proc/[0-9]*/cgroup
fi
if wants packages; then
	bounded grep -asZH '(deleted)$' /proc/[0-9]*/maps
	for d in /proc/[0-9]*; do
		read -r comm 2>/dev/null <"$d/comm" || continue
		case $comm in qemu-*) tr '\0' '\n' 2>/dev/null <"$d/cmdline" | grep -asZH --label="$d/cmdline" '' ;; esac
	done
	gone=$({
		timeout -k 1 "$limit" find /proc -maxdepth 2 -regex '/proc/[0-9]+/exe' -printf '%l\n' 2>/dev/null | sed -n 's/ (deleted)$//p'
		timeout -k 1 "$limit" grep -ash '(deleted)$' /proc/[0-9]*/maps | awk '$2 ~ /x/ { print $6 }'
	} | sort -u)
	if [ -n "$gone" ]; then
		printf '%s\n' "$gone" | sed 'p; s|^/usr/|/|; t; s|^|/usr|' | timeout -k 1 "$limit" grep -asZHxF -f - /var/lib/dpkg/info/*.list ||
			[ $? != 124 ] || late grep /var/lib/dpkg/info
		printf '%s\n' "$gone" | while read -r f; do ask "rpm -qf $f" rpm -qf --qf '%{NAME}\n' "$f"; done
	fi
fi

printf '=end\0\n'
