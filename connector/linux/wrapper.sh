#!/bin/sh
# The program through which yare acts on this host. It is called over SSH, as root, with one order at a time, does what its words say and nothing else, and can be read to its
# end in five minutes. "yare host prepare" puts it here as /var/lib/yare/wrapper, and "yare host remove" takes it away with everything that it keeps, which is all below /var/lib/yare:
#   mark                is there while the host is closed: round, by, at, reason. While it is, libvirt's hook refuses guests. Everybody may read it
#   private/            root's alone:
#     guard             the highest order that was taken: epoch and round of its lease, entry and sum of the round's journal
#     lock, holder      held while an order is taken, and by which
#     acts/ID/          one directory for each order: the order, boot id, and for what goes on by itself pid, start time, log and, at its end, rc
#     staged/           packages that were put here ahead of time, each named by its SHA-256
# It is called with: [within SECONDS] order|trace|staged|part|differs|boards|ready WORD…
# It ends with 0 where it did what it was told, 70 where the order is of an older lease, 71 where it has had the order before, and 72 with a sentence where it refuses.
set -u
umask 077
export LC_ALL=C PATH=/usr/sbin:/usr/bin:/sbin:/bin

mine=
refuse() {
	echo "$*" >&2
	[ -z "$mine" ] || { echo "$*" >"$mine/log"; echo 72 >"$mine/rc"; }
	exit 72
}
# word holds what becomes part of a file's name or a command's to letters that are harmless there.
word() { case $1 in '' | [-.]* | *[!A-Za-z0-9._:+~=^-]*) refuse "\"$1\" is no word that is taken here" ;; esac; [ ${#1} -le 200 ] || refuse "a word is too long"; }
number() { case $1 in '' | *[!0-9]* | 0?* | ????????????????*) refuse "\"$1\" is no number that is taken here" ;; esac; }
hash() { case $1 in *[!0-9a-f]*) refuse "\"$1\" is no SHA-256" ;; esac; [ ${#1} = 64 ] || refuse "\"$1\" is no SHA-256"; }
package() { case $1 in deb | rpm) ;; *) refuse "\"$1\" is no kind of package" ;; esac; }
# unit lets only a service through that may be restarted while guests run: none that ends power, sessions or guests, or that the network depends on.
unit() {
	case $1 in [!A-Za-z0-9]* | *[!A-Za-z0-9:_.@\\-]* | *.service.service) refuse "\"$1\" is no service's name" ;; *.service) ;; *) refuse "\"$1\" is no service's name" ;; esac
	[ ${#1} -le 255 ] || refuse "a service's name is too long"
	case $1 in
	systemd-poweroff* | systemd-reboot* | systemd-halt* | systemd-kexec* | systemd-suspend* | systemd-hibernate* | systemd-hybrid-sleep* | systemd-soft-reboot* | systemd-exit* | systemd-logind* | \
		systemd-user-sessions* | systemd-networkd* | user@* | user-runtime-dir@* | session* | *getty* | dbus* | emergency* | rescue* | initrd* | libvirt-guests* | libvirt-suspendonreboot* | networking* | network* | \
		NetworkManager* | openvswitch* | ovs-* | ovsdb-* | wicked* | ifup@* | display-manager*) refuse "$1 is not restarted while the host runs" ;;
	esac
}

if [ "${1-}" = within ]; then
	number "${2-}"
	within=$2
	shift 2
	exec timeout -k 1 "$within" "$0" "$@"
fi
cd /var/lib/yare/private 2>/dev/null || refuse "it is not prepared, or this is not root: /var/lib/yare/private can't be entered"
[ "$(stat -c '%u %a' .)" = "$(id -u) 700" ] || refuse "$PWD is not root's alone: $(stat -c '%U %a' .); yare host prepare mends that"

# put replaces a file as a whole, or not at all, and waits for the disk.
put() { cat >"$1.new" && sync "$1.new" && mv "$1.new" "$1" && sync .; }
# said makes one line of words, of no more than 500 bytes.
said() { printf '%s' "$*" | tr -s '[:cntrl:]' ' ' | head -c 500; }
mark() { printf 'round %s\nby %s\nat %s\nreason %s\n' "$round" "$(said "$1")" "$(date -u +%Y-%m-%dT%H:%M:%SZ)" "$(said "$2")"; }
# note says in the host's own log what is done.
note() { logger -t yare -- "$(said "$*")" 2>/dev/null; }
owner() { sed -n '/^round /{s///p;q;}' ../mark 2>/dev/null; }
closed() { refuse "it is closed: $(said "$(cat ../mark)")"; }
lock() {
	exec 9>>lock
	flock -w "$1" 9 || refuse "another order is being taken for more than $1 s: $(cat holder 2>/dev/null)"
	echo "$2, since $(date -u +%H:%M:%SZ), process $$" >holder
}
# guarded reads the highest order that was taken into e, r, n and s. What can't be read lets nothing through.
guarded() {
	e='' r='' n='' s='' more=''
	read -r e r n s more <guard 2>/dev/null || refuse "what it keeps of orders can't be read: $PWD/guard is damaged or gone; yare host prepare makes it anew from the orders that it has had"
	number "$e"
	number "$n"
	[ -n "$s" ] && [ -z "$more" ] || refuse "what it keeps of orders can't be read: $PWD/guard is damaged; yare host prepare makes it anew from the orders that it has had"
}

# detach begins a command that goes on by itself, whatever becomes of the connection. Its log and its exit status stay in the act's directory.
detach() {
	a=$PWD/acts/$id
	setsid sh -c 'a=$1; shift; cut -d" " -f22 /proc/$$/stat >"$a/start"; echo $$ >"$a/pid"
		"$@" </dev/null >"$a/log" 2>&1; echo $? >"$a/rc.new"; sync "$a/rc.new"; mv "$a/rc.new" "$a/rc"' act "$a" "$@" </dev/null >/dev/null 2>&1 9>&- &
	n=0
	while [ ! -s "$a/pid" ] && [ ! -e "$a/rc" ] && [ $n -lt 50 ]; do
		n=$((n + 1))
		sleep 0.1
	done
}

# trace tells how far an order is: none, taken, running, done with its status, or lost; and the end of its log.
trace() {
	lock 20 "a question" # an order that is just being taken is taken, or refused, then
	a=acts/$1
	if [ ! -d "$a" ]; then
		echo none
	elif [ -e "$a/rc" ]; then
		echo "done $(head -c 100 "$a/rc")"
	elif [ ! -s "$a/pid" ]; then
		echo taken
	elif [ "$(cat "$a/boot")" != "$(cat /proc/sys/kernel/random/boot_id)" ]; then
		echo "lost the host restarted while it ran"
	elif [ "$(cut -d' ' -f22 "/proc/$(cat "$a/pid")/stat" 2>/dev/null)" = "$(cat "$a/start")" ]; then
		echo running
	else
		echo "lost it was ended from outside"
	fi
	tail -n 30 "$a/log" 2>/dev/null | tail -c 16384
	return 0
}

# stage takes a package from standard input, from the given byte on, and keeps it under its hash. What arrives in part stays, so that the rest can follow; what was damaged here is
# taken anew.
stage() {
	sum=$1 ext=$2 size=$3 from=$4
	hash "$sum" && package "$ext" && number "$size" && number "$from"
	f=staged/$sum.$ext
	exec 9>&- 8>"$f.lock"
	flock -n 8 || refuse "somebody else is staging it at this moment"
	[ ! -e "$f" ] || whole "$f" >/dev/null
	if [ ! -e "$f" ]; then
		touch "$f.part"
		[ "$(stat -c %s "$f.part")" = "$from" ] || refuse "it has another part of it than was thought"
		[ "$(df -Pk staged | awk 'NR == 2 { print $4 }')" -gt $(((size - from) / 1024 + 10240)) ] || refuse "its disk has no room for $size bytes: $(df -Ph staged | tail -n 1)"
		timeout -k 5 3600 head -c $((size - from)) >>"$f.part" || {
			rm -f "$f.part"
			refuse "it could not be written"
		}
		[ "$(stat -c %s "$f.part")" = "$size" ] || refuse "only $(stat -c %s "$f.part") of $size bytes arrived"
		got=$(sha256sum <"$f.part" | cut -d' ' -f1)
		if [ "$got" != "$sum" ]; then
			rm -f "$f.part"
			echo "$got"
			exit 0
		fi
		sync "$f.part" && mv "$f.part" "$f"
	fi
	rm -f "$f.lock"
	sha256sum <"$f" | cut -d' ' -f1
}

# whole sees that files still have the hashes that they are named by, takes away one that has not, and does what stands behind "--". What is put in is looked at so just before; once that has
# gone well the files wait for nothing any more, and are taken away.
whole='files=
while [ "$1" != -- ]; do
	files="$files $1"
	if [ "$(sha256sum <"$1" | cut -d" " -f1)" != "$(basename "${1%.*}")" ]; then
		rm -f "$1"
		echo "E: $(basename "$1") was damaged on this host after it was staged, and is taken away: it has to be staged again"
		exit 74
	fi
	shift
done
shift
[ $# = 0 ] || { "$@" && { rm -f $files || :; }; }'
whole() { sh -c "$whole" whole "$@" --; }

# install puts packages in and takes packages away, all in one transaction of the host's own package manager. Before that it asks the package manager what that would do, and refuses
# where it is anything else than was asked for. Where all comes from staged files no repository is asked, so that what was staged is what goes in. Words: NAME=VERSION to bring from a repository, @HASH.deb/NAME=VERSION for a staged file, NAME- to remove; "older" first allows older versions.
install() {
	older='' alone='-o Dir::Etc::SourceList=/dev/null -o Dir::Etc::SourceParts=/dev/null -o Dir::Cache::pkgcache= -o Dir::Cache::srcpkgcache='
	if [ "$1" = older ]; then
		older=--allow-downgrades
		shift
	fi
	want='' args='' gone='' files=''
	for w in "$@"; do
		case $w in
		@*/*)
			f=${w%%/*}
			f=${f#@}
			hash "${f%%.*}" && package "${f#*.}"
			[ -e "staged/$f" ] || refuse "${w#*/} is not staged here"
			args="$args $PWD/staged/$f" files="$files $PWD/staged/$f" w=${w#*/}
			;;
		*-) gone="$gone ${w%-}" ;;
		*) args="$args $w" alone='' ;;
		esac
		word "$w"
		case $w in *-) args="$args $w" ;; *) want="$want $w" ;; esac
	done
	damaged=$(whole $files) || refuse "$(said "${damaged#E: }")"
	command -v apt-get >/dev/null || {
		rpms
		return
	}
	broken=$(dpkg --audit | sed -n 's/^ \([^ ]*\) .*/\1/p' | tr '\n' ' ')
	[ -z "$broken" ] || refuse "packages are not wholly installed: $broken; dpkg --configure -a mends that"
	for w in $want $gone; do
		! apt-mark showhold | grep -qxF -e "${w%%=*}" || refuse "${w%%=*} is held on this host (apt-mark showhold)"
	done
	keep=--no-remove
	[ -z "$gone" ] || keep=
	would=$(apt-get -s -q $alone --no-install-recommends $keep $older install -- $args 2>&1) || refuse "apt refuses: $(printf '%s\n' "$would" | sed -n 's/^ *E: //p' | tr '\n' ' ')$(printf '%s\n' "$would" | sed -n '/unmet dependencies/,/^E:/p' | grep Depends | tr '\n' ' ')"
	would=$(printf '%s\n' "$would" | sed -n 's/^Inst \([^ :]*\)[^ ]* .*(\([^ ]*\) .*/\1=\2/p; s/^Remv \([^ :]*\).*/\1-/p')
	for w in $would; do
		case " $want $(echo $gone | sed 's/[^ ][^ ]*/&-/g') " in *" $w "*) ;; *) refuse "it would also change $w, which nobody asked for" ;; esac
	done
	detach sh -c "$whole" whole $files -- env DEBIAN_FRONTEND=noninteractive apt-get -y -q $alone --no-install-recommends $keep $older -o DPkg::Lock::Timeout=300 \
		-o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold install -- $args
}

# rpms does the same by dnf: what goes in and what goes out is tried first, and held against what was asked for. The two are transactions of their own: dnf's shell would do both in one, and goes on
# with what is left, and ends well, where a part of it fails.
rpms() {
	command -v dnf >/dev/null || refuse "this host has neither apt-get nor dnf"
	list='' only=${alone:+'--disablerepo=*'} would=''
	for w in $args; do
		case $w in *-) ;; *=*) list="$list ${w%%=*}-${w#*=}" ;; *) list="$list $w" ;; esac
	done
	[ -z "$list" ] || try --setopt=install_weak_deps=False install -- $list
	[ -z "$gone" ] || try --noautoremove remove -- $gone
	for w in $would; do
		case " $want $(echo $gone | sed 's/[^ ][^ ]*/&-/g') " in *" ${w#older:} "*) ;; *) refuse "it would also change ${w#older:}, which nobody asked for" ;; esac
		case $older$w in older:*) refuse "it would go back to ${w#older:}" ;; esac
	done
	detach sh -c "$whole" whole $files -- sh -c '[ -z "$2" ] || dnf -q -y ${1:+"$1"} --setopt=install_weak_deps=False install -- $2 || exit
		[ -z "$3" ] || dnf -q -y ${1:+"$1"} --noautoremove remove -- $3' dnf "$only" "$list" "$gone"
}

# try asks dnf for its own test of a transaction, and adds what it would change to $would. A line of its table begins with one blank, and one that is cut matches nothing.
try() {
	said=$(dnf -y ${only:+"$only"} --setopt=tsflags=test "$@" 2>&1) || refuse "dnf refuses: $(printf '%s\n' "$said" | tail -n 3 | tr '\n' ' ')"
	would="$would $(printf '%s\n' "$said" | awk '
		/^[A-Z][a-z ]*:$/ { part = $1; next }
		/^ [^ ]/ && part { print part ~ /^Remov/ ? $1 "-" : (part ~ /^Downgr/ ? "older:" : "") $1 "=" $3 }
		/^ +replacing / { sub(/\.[^.]*$/, "", $2); print $2 "-" }')"
}

# services restarts, stops or starts services by the host's own service manager.
services() {
	does=$1
	shift
	case $does in restart | stop | start) ;; *) refuse "\"$does\" is nothing that is done to a service" ;; esac
	for w in "$@"; do
		unit "$w"
		case $does$w in stopssh* | stoplibvirt* | stopvirt* | stopsystemd-*) refuse "$w is not stopped: the host is reached through it, or its guests run by it" ;; esac
	done
	if [ -d /run/systemd/system ]; then
		detach systemctl "$does" -- "$@"
	else
		detach sh -c 'does=$1; shift; for s; do service "${s%.service}" "$does" || exit; done' services "$does" "$@"
	fi
}

# setting changes a setting of the kernel until the next restart: one of few, none of which cuts the host off or lets anybody run anything. With a third word it is changed only where it
# is that now: somebody else's stays.
setting() {
	case $1 in
	kernel.hung_task_timeout_secs | kernel.nmi_watchdog | kernel.numa_balancing | kernel.panic | kernel.panic_on_oops | kernel.softlockup_panic | kernel.watchdog_thresh | \
		net.core.netdev_max_backlog | net.core.rmem_max | net.core.somaxconn | net.core.wmem_max | vm.dirty_background_ratio | vm.dirty_ratio | vm.max_map_count | vm.swappiness | \
		vm.zone_reclaim_mode) ;;
	*) refuse "$(said "$1") is no setting that is changed here" ;;
	esac
	number "$2"
	at=/proc/sys/$(echo "$1" | tr . /)
	[ $# = 2 ] || [ "$(cat "$at")" = "$3" ] || return 0
	failed=$({ echo "$2" >"$at"; } 2>&1) || refuse "$1 can't be set to $2: $(said "$failed")"
}

# hook runs a program of the site's own as whoever logs in here, with what comes on standard input. Neither it nor a directory above it may be written by anybody but root and him.
hook() {
	number "$1"
	within=$1
	shift
	case $1 in /*) ;; *) refuse "\"$(said "$1")\" is not named by its absolute path" ;; esac
	at=$(readlink -e -- "$1") && [ -f "$at" ] && [ -x "$at" ] || refuse "there is no program $(said "$1")"
	while :; do
		case $(stat -c '%u %A' -- "$at") in
		"0 "d????????t | "0 "?????-??-? | "${SUDO_UID:-0} "?????-??-?) ;;
		*) refuse "others may write to $(said "$at"): $(stat -c '%U %A' -- "$at")" ;;
		esac
		[ "$at" != / ] || break
		at=${at%/*}
		at=${at:-/}
	done
	head -c 1048576 >"acts/$id/facts" || refuse "its disk takes no order"
	[ "${SUDO_UID:-0}" = 0 ] || set -- runuser -u "$SUDO_USER" -- "$@"
	detach sh -c 'cd / && w=$1 f=$2 && shift 2 && exec timeout -k 5 "$w" "$@" <"$f"' hook "$within" "$PWD/acts/$id/facts" "$@"
}

# occupied says which guests' emulators run here: those that libvirt has written down, those that it lists, and any other emulator of libvirt's account or root's. What others run is
# none of it, whatever they call it.
occupied() {
	for f in /run/libvirt/qemu/*.pid; do
		p=$(head -c 20 "$f" 2>/dev/null | tr -cd 0-9)
		[ -n "$p" ] && [ -d "/proc/$p" ] || continue
		case $(readlink "/proc/$p/exe") in */libvirtd | */libvirtd\ * | */virtqemud | */virtqemud\ *) continue ;; esac # its own is there too, driver.pid
		echo "process $p, which libvirt calls $(basename "$f" .pid)"
	done
	find /proc -maxdepth 2 -path '/proc/[0-9]*/exe' \( -lname '/usr/*/qemu-system-*' -o -lname '/usr/*/qemu-kvm*' -o -lname '/bin/qemu-*' \) -printf '%u %h\n' 2>/dev/null |
		sed -nE 's#^(root|qemu|libvirt-qemu) /proc/#process #p' | sed 's/$/, an emulator/'
	if command -v virsh >/dev/null; then
		timeout -k 1 10 virsh -q -r -c qemu:///system list --uuid 2>&1 </dev/null | sed '/^ *$/d; s/^/libvirt lists: /'
	fi
}

# restart restarts the host, if it is closed for this round and no guest's emulator runs here. Its second word is what whoever orders it was told by libvirt: nothing, or it refuses.
restart() {
	[ "$(owner)" = "$round" ] || refuse "it is not closed for this round"
	[ $# = 2 ] && [ -z "$2" ] || refuse "it is not empty: libvirt lists $(said "${2-}")"
	here=$(occupied)
	[ -z "$here" ] || refuse "it is not empty: $(said "$here")"
	why=$(said "$1")
	if [ -d /run/systemd/system ]; then
		detach sh -c 'sleep 1; exec systemctl reboot --message="yare: $1"' restart "$why"
	else
		logger -t yare -- "restarts: $why" 2>/dev/null
		detach sh -c 'sleep 1; exec reboot'
	fi
}

# backup prints the hash of the host's configuration on a line of its own, and then the configuration: /etc, which packages there are, and what was said of them. The copy has no name
# by which it could be left behind, and whoever takes it slowly keeps no other order waiting.
backup() {
	exec 9>&-
	d=acts/$id
	if command -v dpkg >/dev/null; then
		dpkg --get-selections >"$d/selections"
		apt-mark showhold >"$d/holds"
	else
		rpm -qa >"$d/packages"
	fi
	: >"$d/config" || refuse "there is no room for it"
	exec 5>"$d/config" 6<"$d/config" 7<"$d/config"
	rm -f "$d/config"
	timeout -k 5 300 tar -C / --one-file-system --warning=no-file-changed -cz etc -C "$PWD/$d" . >&5 2>"$d/log"
	[ $? -le 1 ] || refuse "tar: $(head -c 300 "$d/log" | head -n 1)"
	exec 5>&-
	sha256sum <&6 | cut -d' ' -f1
	cat <&7
}

# restore puts files of a kept configuration back, out of an archive on standard input with the given hash: files below /etc, and nothing else. What they replace stays beside the order.
restore() {
	hash "$1" && number "$2"
	d=$PWD/acts/$id
	head -c "$2" >"$d/files" && [ "$(sha256sum <"$d/files" | cut -d' ' -f1)" = "$1" ] || refuse "what arrived has another hash than it is to have"
	tar -tvzf "$d/files" >"$d/names" 2>/dev/null || refuse "it is no archive"
	! cut -c1 "$d/names" | grep -qv '[-l]' || refuse "there is more in it than files and links"
	tar -tzf "$d/files" >"$d/names"
	! grep -qvE '^etc/[^/]' "$d/names" && ! grep -qE '(^|/)\.\.(/|$)' "$d/names" || refuse "there is more in it than files below /etc"
	tar -C / --ignore-failed-read -czf "$d/before" -T "$d/names" 2>/dev/null || :
	detach tar -C / -xpzf "$d/files"
}

# order takes an order, if it is of no older lease and was not taken before.
order() {
	id=$1 epoch=$2 round=$3 entry=$4 sum=$5 verb=$6
	shift 6
	word "$id" && word "$round" && word "$sum" && number "$epoch" && number "$entry"
	lock 20 "$verb by $round"
	guarded
	if [ "$epoch" -lt "$e" ] || { [ "$epoch" -eq "$e" ] && [ "$r" != "$round" ]; }; then
		echo "it has taken orders of the round $r under the epoch $e" >&2
		exit 70
	fi
	[ ! -d "acts/$id" ] || exit 71
	mkdir "acts/$id" || refuse "its disk takes no order"
	mine=acts/$id # from here on a refusal is kept with the order
	cat /proc/sys/kernel/random/boot_id >"acts/$id/boot"
	echo "$epoch $round $entry $sum" >"acts/$id/order" || refuse "its disk takes no order"
	put guard <"acts/$id/order" || refuse "its disk takes no guard"
	case $verb in
	claim)
		find acts -mindepth 1 -maxdepth 1 -type d -mtime +90 -exec rm -rf {} +
		find staged -type f -mtime +14 -exec rm -f {} +
		[ ! -e owed ] || grep -v "^[a-z]* [^ ]* [^ ]* paid " owed | put owed
		;;
	close)
		[ ! -e ../mark ] || [ "$(owner)" = "$round" ] || closed
		mark "$1" "$2" >mark.new && chmod 644 mark.new && sync mark.new || refuse "its disk takes no mark"
		[ ! -e ../mark ] || rm ../mark
		ln mark.new ../mark || closed
		rm mark.new
		sync ..
		note "closed by $1 for round $round: $2"
		;;
	remark)
		[ "$(owner)" = "$round" ] || refuse "it does not carry this round's mark"
		marked "$1" "$2"
		;;
	hand)
		[ "$(owner)" = "$round" ] || refuse "it does not carry this round's mark"
		note "handed over by round $round to $1: $2"
		round='' marked "$1" "$2"
		;;
	adopt)
		[ -e ../mark ] && [ "$(owner)" = "$3" ] && { [ -n "$3" ] || [ "$(sed -n '/^at /{s///p;q;}' ../mark)" = "$4" ]; } || refuse "it does not carry the mark that is to be adopted"
		marked "$1" "$2"
		note "its closing is round $round's now, by $1: $2"
		;;
	open)
		[ ! -e ../mark ] || [ "$(owner)" = "$round" ] || closed
		rm -f ../mark
		note "opened by round $round"
		sync ..
		;;
	stage) stage "$@" ;;
	unstage)
		for w in "$@"; do
			hash "${w%%.*}" && package "${w#*.}"
			rm -f "staged/$w" "staged/$w.part" || refuse "it can't be taken away"
		done
		;;
	install)
		note "round $round changes packages: $*"
		install "$@"
		;;
	services) services restart "$@" ;;
	service) services "$@" ;;
	setting)
		note "round $round sets $(said "$*")"
		setting "$@"
		;;
	restart) restart "$@" ;;
	backup) backup ;;
	restore)
		[ "$(owner)" = "$round" ] || refuse "it is not closed for this round"
		note "round $round puts files of its kept configuration back"
		restore "$@"
		;;
	hook) hook "$@" ;;
	elsewhere) ;; # it is told to libvirt, to the BMC or to another machine; that it was taken is kept here
	guest)
		case ${1-} in
		owe)
			owe "$2" "$3" "$4"
			note "round $round brings the guest $4 to rest: $2"
			;;
		pay)
			[ ! -e ../mark ] || refuse "it is closed, and starts no guests"
			pay "$2"
			;;
		esac
		;;
	*) refuse "it knows no order \"$verb\"" ;;
	esac
}
# owe keeps in a ledger what is about to be done to a guest and is to be undone, so that a host knows it where the journal is lost: a line of kind, round, UUID, owed or paid, and name.
owe() {
	word "$1" && word "$2"
	{ [ ! -e owed ] || grep -v " $2 [a-z]* " owed | tail -n 500; echo "$1 $round $2 owed $(said "$3")"; } | put owed || refuse "its disk takes no ledger"
}
pay() {
	word "$1"
	[ ! -e owed ] || sed "s/ $1 owed / $1 paid /" owed | put owed || refuse "its disk takes no ledger"
}
marked() { mark "$1" "$2" >mark.new && chmod 644 mark.new && sync mark.new && mv mark.new ../mark && sync .. || refuse "its disk takes no mark"; }

case ${1-} in
order) shift && order "$@" ;;
trace) word "${2-}" && trace "$2" ;;
staged)
	hash "${2-}" && package "${3-}"
	[ ! -e "staged/$2.$3" ] || sha256sum <"staged/$2.$3" | cut -d' ' -f1
	;;
part)
	hash "${2-}" && package "${3-}"
	[ ! -e "staged/$2.$3" ] || whole "staged/$2.$3" >/dev/null
	stat -c %s "staged/$2.$3" 2>/dev/null || stat -c %s "staged/$2.$3.part" 2>/dev/null || echo 0
	;;
differs)
	number "${2-}"
	head -c "$2" | timeout -k 5 120 tar -C / -dzf - 2>&1 | sed 's/^tar: //' | head -n 1000
	;;
boards) # where the host itself reaches its BMC: the Redfish host interface that its firmware tells of (DMTF DSP0270, SMBIOS type 42)
	command -v dmidecode >/dev/null || refuse "dmidecode is not on it"
	dmidecode -q -t 42 2>/dev/null | sed -n 's/^[[:space:]]*\(IPv[46] \)\{0,1\}Redfish Service \(Address\|Port\): //p' | head -n 20
	;;
ready)
	guarded
	echo ready
	;;
*) refuse "it is told order, trace, staged, part, differs, boards or ready" ;;
esac
