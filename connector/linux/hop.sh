#!/bin/sh
# How this host's libvirt reaches another's to move a guest there: over SSH, with a key that is there for this alone, and that may do nothing on the other host but speak to its libvirt.
# Only hosts are spoken to whose keys were written down when they were prepared, and nobody is asked. "yare host prepare" puts it here, and "yare host remove" takes it away.
exec ssh -F none -i /var/lib/yare/private/hop-key -o IdentitiesOnly=yes -o IdentityAgent=none -o BatchMode=yes -o ConnectTimeout=10 -o ServerAliveInterval=5 \
	-o StrictHostKeyChecking=yes -o UserKnownHostsFile=/var/lib/yare/private/hop-hosts -o GlobalKnownHostsFile=/dev/null "$@"
