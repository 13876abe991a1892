#!/bin/sh
# A host that is closed takes no guests: while /var/lib/yare/mark is there, none starts, arrives or is restored here. libvirt calls this with a guest's name and what is about to
# happen to it. "yare host prepare" puts it here, and "yare host remove" takes it away. It must not call libvirt, which waits for it.
case "$2/$3" in prepare/begin | migrate/begin | restore/begin) ;; *) exit 0 ;; esac
if [ "$1" = yare-proof ]; then # a guest that is only tried, to see that libvirt asks this hook
	echo "yare: the hook is in force" >&2
	exit 1
fi
[ -e /var/lib/yare/mark ] || exit 0
echo "this host is closed: $(tr '\n' ' ' </var/lib/yare/mark)" >&2
exit 1
