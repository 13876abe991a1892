package course

const cases = `
# a round begins with the first visit
plan a k/host
⇒ record began a

# once begun, the host is read in full and the cluster as far as it matters
plan a k/host
journal a: began
seen stale
⇒ look a bmc,condition,drivers,firmware,guests,health,host,packages,settings; look b guests,host; look c guests,host

# the prechecks let it go ahead
plan a k/host
journal a: began
⇒ record checked a: … none blocks

# gate journal: hosts know of more than the journal
plan a k/host
seen contradicted
⇒ record blocked a: a has taken the order of entry 99

# gate journal: also in the middle of a visit
plan a k/host
journal a: began checked
seen contradicted
⇒ record blocked a: a has taken the order of entry 99

# invariant 6, gate lease
plan a k/host
seen lost
⇒ record blocked a: the lease of the cluster is not held any more

# gate stop: between two hosts
plan a k/host
journal stop
⇒ end stopped

# gate pause: between two hosts
plan a k/host
journal pause
⇒ end paused: paused between two hosts

# staging ahead: what nobody wants is taken away first, payloads are brought, and that is all
brief staging=ahead
plan a k/host ahead old
journal a: began checked
⇒ begin take away a

# staging ahead: then payloads are brought, though a restart of the host stands in the plan
brief staging=ahead
plan a k/host ahead old
journal a: began checked unstage
⇒ begin stage k a

# staging ahead: what the host still has is not gone
brief staging=ahead
plan a k/host ahead old
journal a: began checked unstage/accepted
seen a.staged=old
⇒ record failed take away a: it still has 1 of them

# staging ahead: the host is neither drained nor closed, and what came is proven by its hash
brief staging=ahead
plan a k/host ahead
journal a: began checked stage:k
⇒ record proven a: 1 payload waits there

# staging ahead: a host that takes none is left, and the others get theirs
brief staging=ahead
plan a k/host ahead
plan b k/host ahead
journal a: began checked stage:k/failed
⇒ record left a: left as it is, and the round goes on

# staging ahead: several hosts at once, whatever the brief says of hosts out of service
brief staging=ahead
plan a k/host ahead
plan b k/host ahead
journal a: began checked stage:k/accepted
seen trace:stage:k=unasked calls:stage:k
⇒ record began b

# an image goes to the BMC with its order, and does not wait on the host
plan a f/host
journal a: began checked
⇒ begin move g1 a>b

# hooks: before the round and before a visit, once its prechecks let it go ahead
brief hook=before-round hook=before-visit hook=before-drain
plan a k/host
journal a: began checked
⇒ begin hook before-round a

# hooks: that of the visit comes next
brief hook=before-round hook=before-visit hook=before-drain
plan a k/host
journal a: began checked hook:0
⇒ begin hook before-visit a

# hooks: what is before a step comes just before that, and once
brief hook=before-visit hook=before-drain hook=after-stage
plan a k/host
journal a: began checked hook:0
⇒ begin stage k a

# hooks: what is after a step comes before the next one
brief hook=before-visit hook=before-drain hook=after-stage
plan a k/host
journal a: began checked hook:0 stage:k
⇒ begin hook after-stage a

# hooks: and then the step
brief hook=before-visit hook=before-drain hook=after-stage
plan a k/host
journal a: began checked hook:0 stage:k hook:2 hook:1
⇒ begin move g1 a>b

# hooks: in each pass
brief hook=before-restart
plan a k/host f/host/2
journal a: began checked stage:k move:g1>b close put:k hook:0.1 restart:1 put:f
⇒ begin hook before-restart a

# hooks: before proving, where that only looks
brief hook=before-prove hook=after-restart
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 hook:1.1
⇒ begin hook before-prove a

# hooks: after proving, before the host is opened
brief hook=after-prove
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven
⇒ begin hook after-prove a

# hooks: a visit that owes nothing is not over before the last has run
brief hook=after-prove hook=after-visit
plan a k/
journal a: began checked stage:k put:k proving proven hook:0
⇒ begin hook after-visit a

# hooks: and then it is
brief hook=after-visit
plan a k/
plan b k/
journal a: began checked stage:k put:k proving proven hook:0
⇒ record began b

# hooks: of the round they run once
brief hook=before-round hook=after-round
plan a k/
plan b k/
journal a: began checked hook:0 stage:k put:k proving proven
journal b: began checked
⇒ begin stage k b

# hooks: of the round they run once, with several visits side by side too
brief hook=before-round out=2
plan a k/
plan b k/
journal a: began checked
journal b: began checked
⇒ begin hook before-round a; say b: waits for the hook before round, which runs once

# hooks: the other visits wait for it
brief hook=before-round out=2
plan a k/
plan b k/
journal a: began checked hook:0/accepted
journal b: began checked
seen trace:hook:0=running
⇒ say b: waits for the hook before round, which runs once

# hooks: after the round once nothing is left, for its first visit
brief hook=after-round
plan a k/
plan b k/
journal a: began checked stage:k put:k proving proven
journal b: began checked stage:k put:k proving proven
⇒ begin hook after-round a

# hooks: however that ends, the round is over
brief hook=after-round
plan a k/
journal a: began checked stage:k put:k proving proven hook:0/accepted
seen trace:hook:0=exit3
⇒ record failed hook after-round a: exit status 3: it is busy

# hooks: and it is not run again
brief hook=after-round
plan a k/
journal a: began checked stage:k put:k proving proven hook:0/failed
⇒ end finished

# hooks: after the round also where it was ended, and nobody knows how it came out
brief hook=after-round
plan a k/
plan b k/
journal a: began checked stage:k put:k proving proven end
journal b: left hook:0/accepted
seen trace:hook:0=lost
⇒ record failed hook after-round b: how it ended is lost

# hooks: one that says wait is run again a little later
brief hook=before-visit/wait
plan a k/
journal a: began checked hook:0/accepted
seen trace:hook:0=exit75
⇒ record undone hook before-visit a: it says wait, with exit status 75: it is busy

# hooks: not at once
brief hook=before-visit/wait
plan a k/
journal a: began checked hook:0/again
⇒ say a: the hook before visit: for a reason, and it is run again soon; wake in …

# hooks: then it is
brief hook=before-visit/wait
plan a k/
journal a: began checked hook:0/again +21s
⇒ begin hook before-visit a

# hooks: for as long as the brief's patience lasts, however often it was asked
brief hook=before-visit/wait patience=5m
plan a k/
journal a: began checked hook:0/again +4m hook:0/again +2m
⇒ record blocked a: the hook before visit has said wait for 6 min: for a reason

# hooks: somebody who lets the round go on has it asked anew
brief hook=before-visit/wait patience=5m
plan a k/
journal a: began checked hook:0/again +6m blocked goon
⇒ begin hook before-visit a

# hooks: any other status stops the visit
brief hook=before-visit/wait
plan a k/
journal a: began checked hook:0/accepted
seen trace:hook:0=exit3
⇒ record failed hook before-visit a: exit status 3: it is busy

# hooks: how it ended is lost, and a person must tell
brief hook=before-visit
plan a k/
journal a: began checked hook:0/accepted
seen trace:hook:0=lost
⇒ record stuck hook before-visit a: how it ended is lost

# hooks: unless it may be run again
brief hook=before-visit/again
plan a k/
journal a: began checked hook:0/accepted
seen trace:hook:0=lost
⇒ record undone hook before-visit a: how it ended is lost, and it may be run again

# hooks: what a person says of it is taken, and it is not run again
brief hook=before-visit
plan a k/
journal a: began checked hook:0/stuck word:hook:0=done goon
seen trace:hook:0=lost
⇒ record done hook before-visit a: op says

# hooks: what is undone after a failure waits for none
brief hook=before-reopen
plan a k/host rests:g1
journal a: began checked stage:k down:g1 blocked skip:a
⇒ begin start g1 a

# hooks: nor does what is undone since somebody stops the round
brief hook=before-reopen
plan a k/host rests:g1
journal a: began checked stage:k down:g1 stop
⇒ begin start g1 a

# hooks: after the round only where it has begun
brief hook=after-round
plan a k/host
journal end a: left
⇒ end finished

# hooks: what is after a step waits until all of it is done
hosts a:g1,g2 b c
brief hook=after-drain moves=1
plan a k/host
journal a: began checked stage:k move:g1>b
⇒ begin move g2 a>c

# hooks: how long one has said wait is no matter of the next
brief hook=before-visit/wait hook=before-stage/wait patience=5m
plan a k/host
journal a: began checked hook:0/again +4m hook:0 hook:1/again +2m
⇒ begin hook before-stage a

# hooks: having said wait is no failed attempt
brief hook=before-visit/wait patience=1h
plan a k/host
journal a: began checked hook:0/again +21s hook:0/again +21s hook:0/again +21s hook:0/again +21s hook:0/again +21s hook:0/again +21s hook:0/unanswered
⇒ record undone hook before-visit a: found not done: it was not begun

# hooks: a host that is proven is not left out since somebody ends the round before its last hook
brief hook=after-visit
plan a k/
plan b k/
journal a: began checked stage:k put:k proving proven end
⇒ record left b

# hooks: nor since somebody leaves it out
brief hook=after-visit
plan a k/
journal a: began checked stage:k put:k proving proven skip:a
⇒ end finished: every host has been visited

# hooks: none runs while payloads are only brought
brief staging=ahead hook=before-visit
plan a k/host ahead
journal a: began checked
⇒ begin stage k a

# temporary changes: a service is stopped before anything is brought there
brief temporary=x
plan a k/host
journal a: began checked
⇒ begin temporary change x.service a

# temporary changes: one that does not run already is nobody's to put back
brief temporary=x
plan a k/host
journal a: began checked
seen a.x=enabled
⇒ begin stage k a

# temporary changes: whether it runs is not known: it waits
brief temporary=x
plan a k/host
journal a: began checked
seen a.unread:settings
⇒ record waits a: before it can stop x.service for the time of the visit

# temporary changes: it is put back when the host is open
brief temporary=x
plan a k/host
journal a: began checked lend:x stage:k move:g1>b close put:k restart:1 proving proven open
⇒ begin put back x.service a

# temporary changes: the host is opened before
brief temporary=x
plan a k/host
journal a: began checked lend:x stage:k move:g1>b close put:k restart:1 proving proven
⇒ begin reopen a

# temporary changes: with it put back the visit is over
brief temporary=x
plan a k/
journal a: began checked lend:x stage:k put:k proving proven putback:x
⇒ end finished

# temporary changes: put back too where somebody stops the round before the host is closed
brief temporary=x
plan a k/host
journal a: began checked lend:x stage:k stop
⇒ begin put back x.service a

# temporary changes: and where the visit failed and is left out
brief temporary=x
plan a k/
journal a: began checked lend:x stage:k put:k/failed skip:a
⇒ begin put back x.service a

# temporary changes: a service that is stopped for the visit is nothing that changed unasked
brief temporary=x
plan a k/
journal a: began checked lend:x stage:k put:k proving
⇒ record proven a:

# temporary changes: a setting of the kernel is changed, and what it was is remembered
brief temporary==1
plan a k/host
journal a: began checked
⇒ begin temporary change vm.swappiness a

# temporary changes: a setting that is so already is left alone
brief temporary==60
plan a k/host
journal a: began checked
⇒ begin stage k a

# temporary changes: a setting is put back to what it was
brief temporary==1
plan a k/
journal a: began checked lend:=1 stage:k put:k proving proven
⇒ begin put back vm.swappiness a

# a claim under an earlier lease is nobody's question any more, however it had ended: a round that is over holds none
plan a k/host rests:g1
journal a: began checked stage:k down:g1 close put:k restart:1 proving proven open start:g1/overdue taken goon claim/overdue taken end
⇒ record undone claim a; begin claim a

# guests in their order: the one that others come after is started first
hosts a:g1,g2 b c
plan a k/host rests:g2~g1,g1
journal a: began checked down:g2 down:g1 stage:k close put:k restart:1 proving proven open
⇒ begin start g1 a

# guests in their order: the other once that one has run for as long as the rule says
hosts a:g1,g2 b c
plan a k/host rests:g2~g1,g1
journal a: began checked down:g2 down:g1 stage:k close put:k restart:1 proving proven open start:g1 +10s
⇒ say a: g2 is started once g1 has run for 30s; wake in …

# guests in their order: and its agent answers, where it did before
hosts a:g1,g2 b c
plan a k/host rests:g2~g1,g1
journal a: began checked:agents down:g2 down:g1 stage:k close put:k restart:1 proving proven open start:g1 +31s
⇒ say a: g2 is started once the agent of g1 answers; wake in …

# guests in their order: and something answers where the rule says
hosts a:g1,g2 b c
plan a k/host rests:g2~g1!db:1,g1
journal a: began checked down:g2 down:g1 stage:k close put:k restart:1 proving proven open start:g1 +31s
⇒ say a: g2 is started once db:1 answers; wake in …

# guests in their order: once it does
hosts a:g1,g2 b c
plan a k/host rests:g2~g1!db:1,g1
journal a: began checked down:g2 down:g1 stage:k close put:k restart:1 proving proven open start:g1 +31s
seen answers:db:1
⇒ begin start g2 a

# guests in their order: then it is started
hosts a:g1,g2 b c
plan a k/host rests:g2~g1,g1
journal a: began checked:agents down:g2 down:g1 stage:k close put:k restart:1 proving proven open start:g1 +31s
seen a.agents=g1
⇒ begin start g2 a

# guests in their order: no agent is waited for for ever
hosts a:g1,g2 b c
plan a k/host rests:g2~g1,g1
journal a: began checked:agents down:g2 down:g1 stage:k close put:k restart:1 proving proven open start:g1 +21m
⇒ begin start g2 a

# guests in their order: nobody waits for a guest that was not shut down
hosts a:g1,g2 b c
plan a k/host rests:g2~g1
journal a: began checked stage:k move:g1>b down:g2 close put:k restart:1 proving proven open
⇒ begin start g2 a

# what is owed can't be undone after a failure: the host is handed over with it, once
brief out=2 leaves=1
plan a k/host rests:g1
journal a: began checked stage:k down:g1 blocked
seen a.silent
⇒ record waits a: before it can start g1

# what is owed can't be undone after a failure: and is named
brief out=2 leaves=1
plan a k/host rests:g1
journal a: began checked stage:k down:g1 blocked blocked
⇒ record handed over a: it is … from now on: the round left it, after: drain failed: for a reason…

# what is owed can't be undone after a failure: where it was to be left out as well
plan a k/host rests:g1
journal a: began checked stage:k down:g1 blocked skip:a start:g1/failed start:g1/failed start:g1/failed
⇒ record handed over a: it is … from now on: it was to be left out, after: drain failed: for a reason…

# what fails beside the first failure is nothing that can't be undone
hosts a:g1,g2 b c
brief out=2 leaves=1
plan a k/host
journal a: began checked stage:k move:g1>b/accepted move:g2>b/vain
seen trace:move:g1=vain
⇒ record failed move g1 a>b: it never converges (vain)

# what fails beside the first failure: the host is left, and nobody's
hosts a:g1,g2 b c
brief out=2 leaves=1
plan a k/host
journal a: began checked stage:k move:g1>b/vain move:g2>b/vain
⇒ record left a: left as it is, and the round goes on

# a visit that a gate held for good is handed over like any other
plan a k/host
journal a: blocked give
⇒ record handed over a: it is op's from now on: a reason

# no image is sent while power has become worse
plan a f/none
journal a: began checked
seen a.psu
⇒ record blocked a: no image is sent while its power or temperature is not well: power supply 2: it is dead

# what was not well before the visit was looked at by its prechecks
plan a f/none
journal a: began checked:psu
seen a.psu
⇒ begin flash f a

# no image is sent before it was looked at
plan a f/none
journal a: began checked
seen stale
⇒ look a bmc,firmware,health,host

# a guest that does not converge: its host is left, and the round goes on, where the brief says so
brief converge=leave
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>b/vain
⇒ record left a: left as it is, and the round goes on, after: move failed: for a reason

# a guest that does not converge: not where nobody knows where it is
brief converge=leave
plan a k/host
journal a: began checked stage:k move:g1>b/stuck
⇒ end failed: a: move failed

# a guest that does not converge: as usual the round stops
plan a k/host
journal a: began checked stage:k move:g1>b/vain
⇒ end failed: a: move failed

# a visit that is under way is not held by a pause
plan a k/
journal a: began checked pause
⇒ begin stage k a

# gate failure: nobody is visited after a failure
brief out=2
plan a k/
plan b k/
journal a: began blocked
⇒ end failed: a: precheck failed: for a reason

# gate turn and gate at once: the second waits for the first
plan a k/
plan b k/
plan c k/
journal a: began checked
⇒ begin stage k a; say b: waits for a: at most 1 at once; say c: b comes first

# two at once where the brief allows
brief out=2
plan a k/
plan b k/
journal a: began checked
⇒ record began b; begin stage k a

# two at once: the second begins when nothing else is to be written first
brief out=2
plan a k/
plan b k/
journal a: began checked stage:k/accepted
seen trace:stage:k=unasked calls:stage:k
⇒ record began b

# invariant 1, gate out: a host that somebody else closed counts
plan a k/host
seen b.mark=theirs
⇒ record blocked a: out of service: b (closed by night shift: theirs), and at most 1 may be at once

# gate out: a host that does not answer counts
plan a k/host
seen b.silent
⇒ record blocked a: out of service: b (does not answer), and at most 1 may be at once

# gate out: so does one that is off
plan a k/host
seen b.off
⇒ record blocked a: out of service: b (off), and at most 1 may be at once

# power is proof: where two may be out, one that is off is the first of them
brief out=2
plan a k/host
seen b.off
⇒ record began a

# gate out: whoever needs not be emptied is not held by it
plan a k/
seen b.mark=theirs
⇒ record began a

# gate out asks for a look at the cluster
plan a k/host
seen stale
⇒ look a guests,host; look b guests,host; look c guests,host

# gate certificate: with both out there would be no room
hosts a:g1 b:g2 c
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k/accepted
seen c+x:big calls:stage:k
⇒ say b: with b out as well: does not fit

# gate certificate: with both out there is room
hosts a:g1 b:g2 c
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k/accepted
seen calls:stage:k
⇒ record began b

# payloads are staged first, each file once
plan a k/ l/
journal a: began checked stage:k
⇒ begin stage l a

# a payload that is withdrawn stops the visit before the next act
plan a k/ l/
journal a: began checked stage:k stage:l put:k
seen withdrawn:l
⇒ record blocked a: deb:l 2 was withdrawn since the round was planned: it is bad

# what is put in already is not stopped by its withdrawal
plan a k/ l/
journal a: began checked stage:k stage:l put:k
seen withdrawn:k
⇒ begin install l a

# invariant 7: a payload that can't be verified blocks
plan a k/
journal a: began
seen bad:k
⇒ record blocked a: payload: k.file: damaged

# invariant 11: a host that was not judged is not cleared
plan a k/
journal a: began
seen unjudged
⇒ record blocked a: dispute: it could not be known

# invariant 13: a host that changed since it was planned is not cleared
plan a k/
journal a: began
seen a.k=9
⇒ record blocked a: planned: deb:k was "1" when the round was planned and is "9" now

# invariant 8: a section that can't be read is not cleared
plan a k/
journal a: began
seen a.unread:packages
⇒ record blocked a: packages: packages are unread

# a section of which only a part was read is not cleared where that is not in it
plan a f/
journal a: began
seen a.partial:firmware a.f=
⇒ record blocked a: planned: at what fw:f stands can't be told: half of it

# a rehearsal: the host restarts before anything is put in
plan a k/host/2 rehearse
journal a: began checked stage:k move:g1>b close
⇒ begin restart a

# and then it is changed
plan a k/host/2 rehearse
journal a: began checked stage:k move:g1>b close restart:1
⇒ begin install k a

# the drain moves guests, two at a time
hosts a:g1,g2,g3 b c
plan a k/host
journal a: began checked stage:k
⇒ begin move g1 a>

# one more does not begin only to send its guests elsewhere than was planned: it waits for those that are under way
hosts a:g1 b:g2 c d e
brief out=2
plan a k/host moves:g1>c
plan b k/host moves:g2>a
journal a: began checked
⇒ begin stage k a; say b: while a is out its guests can't go where it was planned

# guests go where it was planned, and not where there is more room
hosts a:g1 b:g3 c:g4,g5 d
plan a k/host moves:g1>c
journal a: began checked stage:k
⇒ begin move g1 a>c

# where what was planned does not stand, that is told first
hosts a:g1 b c
plan a k/host moves:g1>c
journal a: began checked stage:k
seen c.mark=theirs
⇒ record rerouted a: g1 goes to b instead of c: what was planned does not stand:

# and from then on it is what is planned
hosts a:g1 b c
plan a k/host moves:g1>c
journal a: began checked stage:k rerouted:g1>b
seen c.mark=theirs
⇒ begin move g1 a>b

# media are taken out of a guest's drives before anybody moves whose they are
hosts a:g1/iso,g2 b c
plan a k/host ejects:g1 moves:g1>b,g2>c
journal a: began checked stage:k
⇒ begin eject g1 a

# nobody moves meanwhile
hosts a:g1/iso,g2 b c
plan a k/host ejects:g1 moves:g1>b,g2>c
journal a: began checked stage:k eject:g1/accepted
⇒ say a: its drives open; wake

# then they move
hosts a:g1/iso,g2 b c
plan a k/host ejects:g1 moves:g1>b,g2>c
journal a: began checked stage:k eject:g1
⇒ begin move g1 a>b

# what sits tight is tried twice, and then the visit's failure
hosts a:g1/iso b c
plan a k/host ejects:g1 moves:g1>b
journal a: began checked stage:k eject:g1/failed eject:g1/failed
⇒ end failed: a: eject failed

# once the guest is back they are put in again
hosts a:g1/iso b c
plan a k/host ejects:g1 moves:g1>b back:g1<b
journal a: began checked stage:k eject:g1 move:g1>b close put:k restart:1 proving proven open return:g1<b
⇒ begin insert g1 a

# not before it is back
hosts a:g1/iso b c
plan a k/host ejects:g1 moves:g1>b back:g1<b
journal a: began checked stage:k eject:g1 move:g1>b close put:k restart:1 proving proven open
⇒ begin return g1 b>a

# once, whatever else is under way
hosts a:g1/iso,g2 b c
plan a k/host ejects:g1 moves:g1>b,g2>b back:g1<b,g2<b
journal a: began checked stage:k eject:g1 move:g1>b move:g2>b close put:k restart:1 proving proven open return:g1<b return:g2<b/accepted insert:g1/accepted
seen trace:return:g2=running
⇒ say a: its drives open

# and not where they stay out
hosts a:g1/iso b c
plan a k/host ejects:g1/out moves:g1>b
journal a: began checked stage:k eject:g1 move:g1>b close put:k restart:1 proving proven open
⇒ end finished: every host has been visited

# a guest that stays away keeps the round from nothing: what it lacks stays owed
hosts a:g1/iso b c
plan a k/host ejects:g1 moves:g1>b back:g1<b
journal a: began checked stage:k eject:g1 move:g1>b close put:k restart:1 proving proven open stays:g1
⇒ end finished: every host has been visited

# where somebody stops before it has left they are put in again
hosts a:g1/iso b c
plan a k/host ejects:g1 moves:g1>b
journal a: began checked stage:k eject:g1 stop
⇒ begin insert g1 a

# a snapshot is made of a guest where it is, once its host is empty, before anything is changed there
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host backup moves:g1>b
journal a: began checked stage:k move:g1>b close
⇒ begin snapshot g1 b

# once
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host backup moves:g1>b
journal a: began checked stage:k move:g1>b close copy:g1@b
⇒ begin backup a

# not while the guest moves once more in the round
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
plan b k/host moves:g1>c
journal a: began checked stage:k move:g1>b close
⇒ begin install k a

# then where it stays
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
plan b k/host moves:g1>c
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open b: began checked stage:k move:g1>c close
⇒ begin snapshot g1 c

# nor before it is back
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b back:g1<b
journal a: began checked stage:k move:g1>b close
⇒ begin install k a

# then at home
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open return:g1<b
⇒ begin snapshot g1 a

# where it can't be made nothing is changed
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
journal a: began checked stage:k move:g1>b close copy:g1@b/failed
⇒ begin remark a

# what was to move again in a visit that was left out then is told
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
plan b k/host moves:g1>c
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open skip:b b: left
⇒ end finished: every host has been visited but those that were left out: b … no snapshot was made of g1

# of one that is gone none is made, and that keeps the round from nothing
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
journal a: began checked stage:k move:g1>b close
seen b-g1
⇒ record no snapshot a: g1 is on no host

# one that may be on a host that is off is not taken for gone
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
journal a: began checked stage:k move:g1>b close
seen b.off
⇒ record waits a: where g1 is

# where nobody knows where the guest is nothing is changed either
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
journal a: began checked stage:k move:g1>b close
seen b.unread:guests
⇒ record waits a: where g1 is

# a round that is over owes what has a day of its own, and holds nothing
hosts a:g1/disk b c
brief snapshot=g1
plan a k/host moves:g1>b
journal a: began checked stage:k move:g1>b close copy:g1@b put:k restart:1 proving proven open
⇒ end finished: every host has been visited

# a snapshot whose time is over goes before its guest moves
hosts a:g1/old b c
plan a k/host moves:g1>b uncopies:g1
journal a: began checked
⇒ begin remove snapshot g1 a

# then it moves
hosts a:g1/old b c
plan a k/host moves:g1>b uncopies:g1
journal a: began checked uncopy:g1 stage:k
⇒ begin move g1 a>b

# one that somebody else has removed is let be
hosts a:g1/old b c
plan a k/host moves:g1>b uncopies:g1
journal a: began checked
seen a-g1 a+g1
⇒ begin stage k a

# an image goes into the BMC's drive when all else of its pass is put in
plan a k/host i
journal a: began checked stage:k move:g1>b close put:k
⇒ begin boot image i a

# and then the host starts from it, which is its restart
plan a k/host i
journal a: began checked stage:k move:g1>b close put:k mount:i
⇒ begin boot i a

# the image is taken out before anything else
plan a k/host i
journal a: began checked stage:k move:g1>b close put:k mount:i boot:i
⇒ begin take out image a

# no other restart comes after it
plan a k/host i
journal a: began checked stage:k move:g1>b close put:k mount:i boot:i unmount
⇒ record proving a

# while the host runs from it nothing is done, and it is silent for long as expected
plan a i
journal a: began checked move:g1>b close mount:i boot:i/accepted +10m
seen a.silent
⇒ record quiet boot i a

# as long as it takes
plan a i
journal a: began checked move:g1>b close mount:i boot:i/quiet +20m
seen a.silent
⇒ say a: silent for 20 min, as expected meanwhile; wake

# a host that is back proves nothing before its BMC shows what the image brought
plan a i
journal a: began checked move:g1>b close mount:i boot:i/accepted +30m
seen a.boot=new a.media=x
⇒ record failed boot i a: it has started again, and fw:i is at "1" still: the image was not started, or did not bring it

# what it brought is shown
plan a i
journal a: began checked move:g1>b close mount:i boot:i/accepted +30m
seen a.boot=new a.i=2
⇒ record done boot i a

# it is taken out after a failure too
plan a i
journal a: began checked move:g1>b close mount:i boot:i/failed
⇒ begin take out image a

# and when somebody lets the round go on it goes in anew
plan a i
journal a: began checked move:g1>b close mount:i boot:i/failed unmount goon
⇒ begin boot image i a

# not from a host of which nobody knows whether it runs from it
plan a i
journal a: began checked move:g1>b close mount:i boot:i/overdue
seen a.silent
⇒ end failed

# where somebody takes the host over then it stays owed
plan a i
journal a: began checked move:g1>b close mount:i boot:i/overdue give
seen a.silent
⇒ record handed over a: … owed: … is to start from an image once: i.file

# where it was put in and not started from it is taken out before the host is handed over
plan a i
journal a: began checked move:g1>b close mount:i give
⇒ begin take out image a

# also from a host that does not answer
plan a i
journal a: began checked move:g1>b close mount:i give
seen a.silent
⇒ begin take out image a

# what can't be taken out holds nothing up
plan a i
journal a: began checked move:g1>b close mount:i give unmount/failed unmount/failed unmount/failed
⇒ begin hand over a

# nor what can't be asked
plan a i
journal a: began checked move:g1>b close mount:i waits +20m blocked
seen a.silent a.bmc-silent
⇒ record blocked a: before it can take the image i.file out

# which is told once
plan a i
journal a: began checked move:g1>b close mount:i waits +20m blocked blocked
seen a.silent a.bmc-silent
⇒ end failed

# and whoever takes the host over knows of it
plan a i
journal a: began checked move:g1>b close mount:i waits +20m blocked blocked give
seen a.silent a.bmc-silent
⇒ record handed over a: … owed: … is to start from an image once: i.file

# what is undone after a failure waits for no hook
brief hook=before-restart/host
plan a i
journal a: began checked move:g1>b close mount:i blocked
seen a.silent
⇒ begin take out image a

# one that went in by half is taken out again too
plan a i
journal a: began checked move:g1>b close mount:i/failed mount:i/failed
⇒ begin take out image a

# and is put in again before anything starts from it
plan a i
journal a: began checked move:g1>b close mount:i/failed
⇒ begin boot image i a

# a round that is ended leaves nothing behind of which nobody knows how it came out
brief hook=after-visit/host
plan a k
journal a: began checked stage:k put:k proving proven hook:0/stuck end
⇒ record handed over a

# a change that is left out leaves no image behind
plan a i
journal a: began checked move:g1>b close mount:i boot:i/failed unmount drop:i
⇒ record proving a

# nothing goes in where nobody knows where it is served
plan a i
journal a: began checked move:g1>b close
seen unserved
⇒ record blocked a: no address is known

# files of a kept configuration go back once that which is there is kept, and the host stays closed
brief hand=restore
plan a restores
journal a: began checked adopt
⇒ begin backup a

# then
brief hand=restore
plan a restores
journal a: began checked adopt backup
⇒ begin restore files a

# and the host is the person's again
brief hand=restore
plan a restores
journal a: began checked adopt backup restore
⇒ begin hand over a

# media that somebody put in after the plan was shown are not taken out
hosts a:g1/iso b c
plan a k/host moves:g1>b
journal a: began checked stage:k
⇒ record blocked a: no room: … g1 can't move: in its drive sda is /x.iso

# a guest that moves cold is shut down when all others have left
hosts a:g1,g2 b c
plan a k/host moves:g1>b,g2>c colds:g1
journal a: began checked stage:k
⇒ begin move g2 a>c

# when all have left
hosts a:g1,g2 b c
plan a k/host moves:g1>b,g2>c colds:g1
journal a: began checked stage:k move:g2>c
⇒ begin shut down g1 a

# not while another is on its way
hosts a:g1,g2 b c
plan a k/host moves:g1>b,g2>c colds:g1
journal a: began checked stage:k move:g2>c/accepted
seen trace:move:g2=running
⇒ say a: ; wake

# then it is carried
hosts a:g1,g2 b c
plan a k/host moves:g1>b,g2>c colds:g1
journal a: began checked stage:k move:g2>c down:g1
⇒ begin carry g1 a>b

# and started there
hosts a:g1,g2 b c
plan a k/host moves:g1>b,g2>c colds:g1
journal a: began checked stage:k move:g2>c down:g1 carry:g1>b
⇒ begin start g1 b

# before the next is shut down
hosts a:g1,g2 b c
plan a k/host moves:g1>b,g2>c colds:g1,g2
journal a: began checked stage:k down:g1
⇒ begin carry g1 a>b

# while it is down its room is its own: nobody else is sent there
hosts a:g1 b:g2 c d
brief out=2
plan a k/host moves:g1>c colds:g1
plan b k/host moves:g2>c
journal a: began checked stage:k down:g1 carry:g1>c b: began checked stage:k
seen c+x:big
⇒ begin start g1 c; record rerouted b: g2 goes to d

# the host is closed when all that is done
hosts a:g1 b c
plan a k/host moves:g1>b colds:g1
journal a: began checked stage:k down:g1 carry:g1>b start:g1@b
⇒ begin close a

# it owes nobody a start any more
hosts a:g1 b c
plan a k/host moves:g1>b colds:g1
journal a: began checked stage:k down:g1 carry:g1>b start:g1@b close put:k restart:1 proving proven open
⇒ end finished

# whoever stops it while the guest is down has it started where it is
hosts a:g1 b c
plan a k/host moves:g1>b colds:g1
journal a: began checked stage:k down:g1 stop
⇒ begin start g1 a

# or where it was carried
hosts a:g1 b c
plan a k/host moves:g1>b colds:g1
journal a: began checked stage:k down:g1 carry:g1>b stop
⇒ begin start g1 b

# a guest that is off is carried as it is, and not started
hosts a:o/off b c
plan a k/host colds:o>c
journal a: began checked stage:k
⇒ begin carry o a>c

# and then the host is closed
hosts a:o/off b c
plan a k/host colds:o>c
journal a: began checked stage:k carry:o>c
⇒ begin close a

# one that somebody has started meanwhile is not shut down: it was planned as one that is off
hosts a:o/off b c
plan a k/host colds:o>c
journal a: began checked stage:k
seen a-o a+o
⇒ record rerouted a: o goes to

# a host that takes no guests is carried nothing
hosts a:o/off b c
plan a k/host colds:o>c
journal a: began checked stage:k
seen c.mark=theirs
⇒ record waits a: o is to be carried to c, which takes no guests now

# where it came to nobody knows, a person looks
hosts a:g1 b c
plan a k/host moves:g1>b colds:g1
journal a: began checked stage:k down:g1 carry:g1>b/unanswered
seen a-g1
⇒ record stuck carry g1 a>b: g1 is neither on a nor on b

# guests go back to a host that is in service again, by the host that they are on
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
⇒ begin return g1 b>a

# as many at once as the brief allows, and no more
hosts a:g1,g2,g3 b c
brief home moves=2
plan a k/host moves:g1>b,g2>b,g3>b back:g1<b,g2<b,g3<b
journal a: began checked stage:k move:g1>b move:g2>b move:g3>b close put:k restart:1 proving proven open return:g1<b/accepted return:g2<b/accepted
seen trace:return:g1=running trace:return:g2=running
⇒ say a: ; say a: ; wake

# the visit is over when all of them are back, and the next begins
brief home
plan a k/host back:g1<b
plan b k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open return:g1<b
⇒ record began b

# before that the next waits, although two may be out at once
brief home out=2
plan a k/host back:g1<b
plan c k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
⇒ begin return g1 b>a; say c: waits for a: at most 1 at once

# a guest for which there is no room any more stays, and that is told
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen a+x:big a+y
⇒ record stays a: g1 finds no room on a

# so does one that is there already, or runs nowhere
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen b-g1 a+g1
⇒ record stays a: g1 is there already

# one that runs nowhere
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen b-g1
⇒ record stays a: g1 runs on no host

# one that has gone on comes from where it is now
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen b-g1 c+g1
⇒ begin return g1 c>a

# the others come all the same
hosts a:g1,g2 b c
brief home moves=1
plan a k/host moves:g1>b,g2>b back:g1<b,g2<b
journal a: began checked stage:k move:g1>b move:g2>b close put:k restart:1 proving proven open
seen b-g1
⇒ begin return g2 b>a

# whoever stays is not asked about again
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open stays:g1
⇒ end finished

# nothing is brought back while a host can't be read
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen c.silent
⇒ record waits a: c does not answer

# nor to a host that somebody closed meanwhile
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen a.mark=theirs
⇒ record stays a: g1 finds no room on a

# a host on trial proves the way back by one guest: where none can come nothing is proven
brief trial=a
plan a k/host back:g1<b
plan b k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen a+x:big a+y
⇒ record blocked a: it is in service again, and no guest could come back to it … g1 finds no room

# nor where it runs nowhere any more
brief trial=a
plan a k/host back:g1<b
plan b k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen b-g1
⇒ record blocked a: it is in service again, and no guest could come back to it … g1 runs on no host

# also where all were to come home
brief trial=a home
plan a k/host back:g1<b
plan b k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen a+x:big a+y
⇒ record blocked a: it is in service again, and no guest could come back to it

# where one has come that is proof enough
hosts a:g1,g2 b c
brief trial=a home
plan a k/host moves:g1>b,g2>b back:g1<b,g2<b
plan b k/host
journal a: began checked stage:k move:g1>b move:g2>b close put:k restart:1 proving proven open return:g1<b
seen b-g2
⇒ record stays a: g2 runs on no host

# or where somebody has brought it
brief trial=a
plan a k/host back:g1<b
plan b k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open
seen b-g1 a+g1
⇒ record stays a: g1 is there already

# whoever stops it stops before the next guest comes back
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open stop
⇒ say a: it stands at a safe point; end stopped

# left out, those that are not back yet stay
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open skip:a
⇒ record left a

# a guest that can't be brought back three times is the visit's failure
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open return:g1<b/failed return:g1<b/failed return:g1<b/failed
⇒ end failed: a: return failed

# a runner that takes it on claims the host that the guest comes from
brief home
plan a k/host back:g1<b
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open return:g1<b/accepted taken
⇒ begin claim b

# gate trial: the others wait for the host on trial
hosts a:g1 b:g2 c d
brief out=2 trial=a
plan a k/host
plan b k/host
journal a: began checked
⇒ begin stage k a; say b: a is on trial before the others

# and for its soak after that
hosts a:g1 b:g2 c d
brief trial=a soak=30m
plan a k/
plan b k/
journal a: began checked stage:k put:k proving proven +10m
⇒ say b: a is on trial until 12:; wake

# when that is over they begin
hosts a:g1 b:g2 c d
brief trial=a soak=30m
plan a k/
plan b k/
journal a: began checked stage:k put:k proving proven +31m
⇒ record began b

# gate window: a visit waits for its window
brief window=1h-3h
plan a k/ usual:10m
⇒ say a: waits for the window that opens at; wake

# it begins in it
brief window=0s-3h
plan a k/ usual:10m
⇒ record began a

# it does not begin where it may not be over by the end
brief window=0s-30m window=5h-8h
plan a k/ usual:10m
⇒ say a: waits for the window that opens at; wake

# where no window is left the round stands, and says why
brief window=0s-30m
plan a k/ usual:10m
⇒ record blocked a: no window is left that is long enough for it

# gate after: a visit waits for the one to whose host its guests go
hosts a:g1 b:g2 c d
brief out=2
plan a k/host moves:g1>c
plan b k/host moves:g2>a after:a
journal a: began checked
⇒ begin stage k a; say b: its guests go to a, which is visited first

# it does not wait for one that was left out
hosts a:g1 b:g2 c d
plan a k/host moves:g1>c
plan b k/host moves:g2>a after:a
journal a: began left
⇒ record began b

# guests that the brief brings to rest wait until the others have left
hosts a:g1,g2 b c
plan a k/host rests:g2
journal a: began checked stage:k
⇒ begin move g1 a>

# then they are shut down, one after another
hosts a:g1,g2,g3 b c
plan a k/host rests:g3,+g2
journal a: began checked stage:k move:g1>b
⇒ begin shut down g3 a

# the next only when that is done
hosts a:g1,g2,g3 b c
plan a k/host rests:g3,+g2
journal a: began checked stage:k move:g1>b down:g3
⇒ begin suspend g2 a

# one that is on its way down is waited for
hosts a:g1 b c
plan a k/host rests:g1
journal a: began checked stage:k down:g1/accepted +1m
⇒ wake

# one that goes on running is asked again, and then a person
hosts a:g1 b c
plan a k/host rests:g1
journal a: began checked stage:k down:g1/accepted +6m
⇒ record failed shut down g1 a: g1 is running still

# with all of them at rest the host is closed
hosts a:g1,g2 b c
plan a k/host rests:g2
journal a: began checked stage:k move:g1>b down:g2
⇒ begin close a

# invariant 9: they are started when the host is open again, the last one first
hosts a:g1,g2 b c
plan a k/host rests:g1,g2
journal a: began checked stage:k down:g1 down:g2 close put:k restart:1 proving proven open
⇒ begin start g2 a

# invariant 9: and the first one last
hosts a:g1,g2 b c
plan a k/host rests:g1,g2
journal a: began checked stage:k down:g1 down:g2 close put:k restart:1 proving proven open start:g2
⇒ begin start g1 a

# a guest that is seen to run is not started once more
hosts a:g1 b c
plan a k/host rests:g1
journal a: began checked stage:k down:g1 close put:k restart:1 proving proven open start:g1/accepted
seen a-g1 a+g1
⇒ record done start g1 a

# the host is opened before any of them is started
hosts a:g1,g2 b c
plan a k/host rests:g1,g2
journal a: began checked stage:k down:g1 down:g2 close put:k restart:1 proving proven
⇒ begin reopen a

# invariant 9: where the round stops before the host is closed they are started again
hosts a:g1,g2 b c
plan a k/host rests:g1,g2
journal a: began checked stage:k down:g1 stop
⇒ begin start g1 a

# invariant 9: and where the host is left out
hosts a:g1,g2 b c
plan a k/host rests:g1,g2
journal a: began checked stage:k down:g1 skip:a
⇒ begin start g1 a

# it is left out when that is done
hosts a:g1 b c
plan a k/host rests:g1
journal a: began checked stage:k down:g1 skip:a start:g1
⇒ record left a

# invariant 3: nobody is shut down whom the brief does not name
hosts a:g1 b c
plan a k/host moves:g1>b
journal a: began checked stage:k
seen b.mark=theirs c.mark=theirs
⇒ record blocked a: no room

# a second guest goes while the first is on its way
hosts a:g1,g2,g3 b c
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen trace:move:g1=running
⇒ begin move g2 a>c

# no third
hosts a:g1,g2,g3 b c
plan a k/host
journal a: began checked stage:k move:g1>b/accepted move:g2>c/accepted
seen trace:move:g1=running trace:move:g2=running
⇒ nothing

# the cluster is looked at anew for every move
hosts a:g1,g2 b c
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen trace:move:g1=running b.stale
⇒ look b guests,host

# invariant 2: the reserve is kept at each move
hosts a:g1 b:x1 c
brief reserve=1
plan a k/host
journal a: began checked stage:k
seen b+y:big c+z:big
⇒ record blocked a: no room: does not fit

# invariant 2: no move while another host does not answer, and it is waited for
plan a k/host
journal a: began checked stage:k
seen b.silent
⇒ record waits a: b does not answer: no new moves are begun

# one that is off is known to run nothing, and is out of service
plan a k/host
journal a: began checked stage:k
seen b.off
⇒ record waits a: b is off: no new moves are begun: at most 1 may be out of service at once

# the target of a move is off: the guest is not there
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen b.off
⇒ record failed move g1 a>b: it still runs on a

# its source is off, and the guest has arrived
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen a.off b+g1
⇒ record done move g1 a>b

# its source is off, and the guest did not arrive: it runs nowhere
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen a.off
⇒ record stuck move g1 a>b: g1 is not on a, whose power is off and not there on b

# it is waited for as long as the brief's patience
plan a k/host
journal a: began checked stage:k waits +19m
seen b.silent
⇒ say a: waits since

# and then the visit fails
plan a k/host
journal a: began checked stage:k waits +21m
seen b.silent
⇒ record blocked a: b does not answer

# what was waited for once is not waited for again
plan a k/host
journal a: began checked stage:k waits +21m blocked goon
seen b.silent
⇒ record blocked a: b does not answer

# after progress it is waited for anew
plan a k/host
journal a: began checked stage:k waits +21m blocked goon move:g1>c close
seen a.unread:guests
⇒ record waits a

# a guest list that can't be read is not an empty one
plan a k/host
journal a: began checked stage:k
seen a.unread:guests
⇒ record waits a: which guests are on a can't be read

# nor is one of another host
plan a k/host
journal a: began checked stage:k
seen c.unread:guests
⇒ record waits a: which guests are on c can't be read: no new moves are begun

# a guest in flight counts at both ends: there is no room beside it
hosts a:g1,g2 b c
brief moves=3
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen trace:move:g1=running b+y:big c+z:big c+u
⇒ nothing

# a suspended guest can't be drained
plan a k/host
journal a: began checked stage:k
seen a-g1 a+g9:suspended
⇒ record blocked a: no room: does not fit: g9 is suspended

# the host is closed when nobody is left on it
plan a k/host
journal a: began checked stage:k move:g1>b
⇒ begin close a

# it is not closed while a guest is on its way
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen trace:move:g1=running
⇒ nothing

# a guest that came back is moved away again, closed or not
plan a k/host
journal a: began checked stage:k move:g1>b close
seen a+g7
⇒ record rerouted a: g7 goes to c: what was planned does not stand: g7 is on a and was not when the round was planned

# and then it goes
plan a k/host
journal a: began checked stage:k move:g1>b close rerouted:g7>c
seen a+g7
⇒ begin move g7 a>c

# the configuration is kept before the first change, and only then
plan a k/ backup
journal a: began checked stage:k
⇒ begin backup a

# it is kept once
plan a k/ backup
journal a: began checked stage:k backup
⇒ begin install k a

# packages of one pass go in together
plan a k/ f/bmc l/ s/service
journal a: began checked stage:k stage:f stage:l
⇒ begin install k+l a

# those of another pass do not, nor those that are in
plan a k/ l/ d/ s2//2
journal a: began checked stage:k stage:l stage:s2 put:k
⇒ begin install l+d a

# what went in together is done together
plan a k/ l/
journal a: began checked stage:k stage:l put:k+l
⇒ record proving a

# what went in together is not done before all of it is in
plan a k/ l/
journal a: began checked stage:k stage:l put:k+l/accepted
seen a.k=2 trace:put:k+l=done
⇒ record failed install k+l a: deb:l is at "1", and 1 of 2 are in

# what is in of it and what is not: the rest is brought by doing it again
plan a k/ l/
journal a: began checked stage:k stage:l put:k+l/intent taken goon claim
seen a.k=2
⇒ record undone install k+l a: found not done

# firmware goes to the BMC
plan a f/bmc
journal a: began checked stage:f
⇒ begin flash f a

# a service restarts without anything being put in
plan a s/service
journal a: began checked
⇒ begin service restart s a

# a package is removed
plan a d/
journal a: began checked
⇒ begin install d a

# what would settle an act must be readable before it is begun
plan a f/bmc
journal a: began checked stage:f
seen a.bmc-silent
⇒ record waits a: before it can … can't be read

# invariant 3: no restart while a guest is on the host
plan a k/host
journal a: began checked stage:k move:g1>b close put:k
seen a+g7
⇒ record rerouted a: g7 goes to c

# invariant 3: a suspended guest stops the restart
plan a k/host
journal a: began checked stage:k move:g1>b close put:k
seen a+g7:suspended
⇒ record blocked a: no room: does not fit: g7 is suspended

# no restart while its guests can't be read
plan a k/host
journal a: began checked stage:k move:g1>b close put:k
seen a.unread:guests
⇒ record waits a

# no restart of a host that lost its mark
plan a k/host
journal a: began checked stage:k move:g1>b close put:k
seen a.mark=none
⇒ record blocked a: its mark is gone

# it is closed anew when somebody lets the round go on
plan a k/host
journal a: began checked stage:k move:g1>b close put:k blocked goon
seen a.mark=none
⇒ begin close a

# and then it restarts
plan a k/host
journal a: began checked stage:k move:g1>b close put:k blocked goon close
⇒ begin restart a

# and is opened once
plan a k/host
journal a: began checked stage:k move:g1>b close put:k blocked goon close restart:1 proving proven open
⇒ end finished

# no restart of a host that somebody else closed meanwhile
plan a k/host
journal a: began checked stage:k move:g1>b close put:k
seen a.mark=theirs
⇒ record blocked a: it is closed by night shift (theirs), and no more by this round

# it restarts when all of the pass is in
plan a k/host
journal a: began checked stage:k move:g1>b close put:k
⇒ begin restart a

# a kernel that only awaits the restart is not put in
plan a r/host
journal a: began checked move:g1>b close
⇒ begin restart a

# then it is proven
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1
⇒ record proving a

# proven, by a full look
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving
⇒ record proven a

# invariant 4: not by a version that is not the wanted one
plan a k/
journal a: began checked stage:k put:k proving
seen a.k=9
⇒ say a: not proven yet: deb:k is "9" and should be "2"

# nor by one that is installed and does not run
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving
seen a.k:running=1
⇒ say a: not proven yet: deb:k 2 is installed but 1 runs

# nor half installed
plan a k/
journal a: began checked stage:k put:k proving
seen a.k:state=half-configured
⇒ say a: not proven yet: deb:k 2 is half-configured

# nor by a section that was read before and is not now
plan a k/
journal a: began checked stage:k put:k proving
seen a.unread:settings
⇒ say a: not proven yet: settings is unread

# nor by half of one
plan a k/
journal a: began checked stage:k put:k proving
seen a.partial:drivers
⇒ say a: not proven yet: drivers is unread: half of it

# nor by health that was well before
plan a k/
journal a: began checked stage:k put:k proving
seen a.ill
⇒ say a: not proven yet: fans was well before: slow

# nor without a network that it had
plan a k/
journal a: began checked stage:k put:k proving
seen a.netless
⇒ say a: not proven yet: the network n is gone

# nor with a task left in the BMC's queue
plan a k/
journal a: began checked stage:k put:k proving
seen a.queue
⇒ say a: not proven yet: in its BMC's queue there is left: 1

# proving ends with the brief's patience
plan a k/
journal a: began checked stage:k put:k proving +20m
seen a.ill
⇒ record unproven a: fans was well before: slow

# what changed unasked is told
plan a k/
journal a: began checked stage:k put:k proving
seen a.l=7
⇒ record proven a: deb:l went from 1 to 7, unplanned

# it reopens when proven
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven
⇒ begin reopen a

# the round is finished when every visit is
plan a k/
journal a: began checked stage:k put:k proving proven
⇒ end finished: every host has been visited

# invariant 5: an act of an earlier runner is not looked at before the host knows of this lease
plan a k/
journal a: began checked stage:k put:k/intent taken goon
⇒ begin claim a

# nor while the claim is under way
plan a k/
journal a: began checked stage:k put:k/intent taken goon claim/accepted
seen a.guard=1 calls:claim
⇒ nothing

# then the look settles it: done
plan a k/
journal a: began checked stage:k put:k/intent taken goon claim
seen a.k=2
⇒ record done install k a

# then the look settles it: not done, and it is begun anew
plan a k/
journal a: began checked stage:k put:k/intent taken goon claim
⇒ record undone install k a: found not done

# a claim of a runner that was followed by another is dropped
plan a k/
journal a: began checked stage:k put:k/intent taken claim/intent taken
⇒ record undone claim a; begin claim a

# an act whose call is out is waited for
plan a k/
journal a: began checked stage:k put:k/intent
seen calls:put:k
⇒ nothing

# a call without an answer is looked up
plan a k/
journal a: began checked stage:k put:k/unanswered
seen stale
⇒ look a trace

# what runs is not looked at further
plan a k/
journal a: began checked stage:k put:k/accepted
seen stale trace:put:k=running
⇒ nothing

# what has ended is looked at after it ended
plan a k/
journal a: began checked stage:k put:k/accepted
seen trace:put:k=early
⇒ look a packages

# a task that calls itself done is no proof
plan a k/
journal a: began checked stage:k put:k/accepted
seen trace:put:k=done
⇒ record failed install k a: deb:k is at "1"

# a task that calls itself failed is a failure
plan a k/
journal a: began checked stage:k put:k/accepted
seen trace:put:k=failed
⇒ record failed install k a: it broke

# unless what it was to bring about is there
plan a k/
journal a: began checked stage:k put:k/accepted
seen trace:put:k=failed a.k=2
⇒ record done install k a

# a package left half installed needs a person
plan a k/
journal a: began checked stage:k put:k/accepted
seen trace:put:k=failed a.k:state=unpacked
⇒ record stuck install k a: deb:k 1 is unpacked: it broke

# and is open still when the round goes on: the look decides
plan a k/
journal a: began checked stage:k put:k/stuck goon
seen a.k=2
⇒ record done install k a

# a third version needs a person
plan a k/
journal a: began checked stage:k put:k/unanswered
seen a.k=9
⇒ record stuck install k a: deb:k was "1", should become "2" and is "9"

# a host that can't be asked is waited for
plan a k/
journal a: began checked stage:k put:k/unanswered
seen trace:put:k=unasked
⇒ record quiet install k a: no answer

# as long as the brief's patience
plan a k/
journal a: began checked stage:k put:k/unheard +19m
seen trace:put:k=unasked
⇒ say a: silent for 19 min

# and then the visit fails, and how the act came out is still not known
plan a k/
journal a: began checked stage:k put:k/unheard +20m
seen trace:put:k=unasked
⇒ record overdue install k a: no answer for 20 min

# nothing is done while it is not known
plan a k/
journal a: began checked stage:k put:k/overdue
seen trace:put:k=unasked
⇒ end failed: a: install failed

# it is not waited for a second time
plan a k/
journal a: began checked stage:k put:k/overdue +1h goon
seen trace:put:k=unasked
⇒ record overdue install k a

# one that answers again is heard, and settled
plan a k/
journal a: began checked stage:k put:k/overdue +1h goon
seen a.k=2
⇒ record heard install k a; record done install k a

# a BMC that was silent while it flashed is not given the image again on hope
plan a f/bmc
journal a: began checked stage:f put:f/overdue +1h goon
⇒ record heard flash f a; record stuck flash f a: the BMC took the image, knows no task for it any more

# unless it says that it failed
plan a f/bmc
journal a: began checked stage:f put:f/quiet
seen trace:put:f=failed
⇒ record heard flash f a; record failed flash f a: it broke

# or has started anew since
plan a f/bmc
journal a: began checked stage:f put:f/overdue +1h goon
seen a.reset
⇒ record heard flash f a; record failed flash f a: … restarted since

# an image of which it is not known whether it was taken: the BMC is given a minute
plan a f/bmc
journal a: began checked stage:f put:f/unanswered +59s
⇒ say a: whether the BMC took the image is not known yet

# an image that was not taken is given again
plan a f/bmc
journal a: began checked stage:f put:f/unanswered +61s
⇒ record undone flash f a

# a task that was not there before speaks against it
plan a f/bmc
journal a: began checked stage:f put:f/unanswered +61s
seen a.task=new
⇒ record stuck flash f a: the BMC has a task that it had not before

# a restart is borne with as long as it usually takes, and the brief's patience
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +31m
seen a.silent
⇒ say a: silent for 31 min: longer than usual, which is 6 min, and it is waited for another 1 min

# and no longer
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +32m
seen a.silent
⇒ record overdue restart a: it did not come back within 32 min

# a host that came back late is found as come back
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue +3h goon
seen a.boot=new
⇒ record heard restart a; record done restart a: boot new

# a host that has not come back is not waited for again
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue +3h goon
seen a.silent
⇒ record overdue restart a

# it has come back only when its guests can be read
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +5m
seen a.boot=new a.unread:guests
⇒ nothing

# a host that was told to restart and has not gone down is not told again
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +1m
⇒ say a: it was told to, and has not gone down yet

# for ever it is not waited for
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +40m
⇒ record overdue restart a: it has been under way for 40 min

# a host whose restart never reached it is told again
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/unanswered
⇒ record undone restart a: found not done: boot boot-a as before

# a restart that the host has taken on, of which its runner never heard, is not told to it again
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/intent taken goon claim
seen trace:restart:1=taken
⇒ nothing

# nor one that was ended as the host goes down
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/intent taken goon claim
seen trace:restart:1=lost
⇒ nothing

# what was lost to a restart of the host has failed
plan a k/
journal a: began checked stage:k put:k/unanswered
seen trace:put:k=lost
⇒ record failed install k a: the host restarted

# one that the host refused, or could not begin, is
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/intent taken goon claim
seen trace:restart:1=failed
⇒ record failed restart a: it broke

# what has just begun is looked at again soon
plan a k/
journal a: began checked stage:k put:k/accepted
seen trace:put:k=running
⇒ wake in 500ms

# what has been under way for a while, later
plan a k/
journal a: began checked stage:k put:k/accepted +4s
seen trace:put:k=running
⇒ wake in 2s

# and what takes long, now and then
plan a k/
journal a: began checked stage:k put:k/accepted +3m
seen trace:put:k=running
⇒ wake in 3s

# the youngest counts
hosts a:g1,g2,g3 b c
plan a k/host
journal a: began checked stage:k move:g1>b/accepted +1m move:g2>c/accepted
seen trace:move:g1=running trace:move:g2=running
⇒ wake in 500ms

# what is being proven is looked at again soon too
plan a k/
journal a: began checked stage:k put:k proving +2s
seen a.ill
⇒ wake in 1s

# a migration that fails is tried three times
plan a k/host
journal a: began checked stage:k move:g1>b/failed move:g1>b/failed
⇒ begin move g1 a>

# and then it is the visit's failure
plan a k/host
journal a: began checked stage:k move:g1>b/failed move:g1>b/failed move:g1>b/failed
⇒ end failed: a: move failed: for a reason

# one that would fail again is not tried again
plan a k/host
journal a: began checked stage:k move:g1>b/vain
⇒ end failed: a: move failed: for a reason

# and whether it would the one who gave it up says
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen trace:move:g1=vain
⇒ record failed move g1 a>b: it never converges (vain)

# a guest that runs on both hosts needs a person
plan a k/host
journal a: began checked stage:k move:g1>b/unanswered
seen b+g1
⇒ record stuck move g1 a>b: g1 is running on a and running on b

# a failure on a closed host is written on it
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed
⇒ begin remark a

# and then the round ends
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed remark
⇒ end failed: a: install failed: for a reason

# who lets it go on has it staged once more: it may be that which was damaged
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed remark goon
⇒ begin stage k a

# and then put in
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed remark goon stage:k
⇒ begin install k a

# where it can't be written the journal has it
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed
seen a.silent
⇒ end failed: a: install failed

# a remark that can't be settled keeps nobody waiting
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed remark/unanswered
seen a.silent
⇒ record failed remark a

# stop before closing: guests in flight land, and nothing new is begun
hosts a:g1,g2 b c
plan a k/host
journal a: began checked stage:k move:g1>b/accepted stop
seen trace:move:g1=running
⇒ nothing

# then the round stops
hosts a:g1,g2 b c
plan a k/host
journal a: began checked stage:k move:g1>b stop
⇒ end stopped

# a host that is closed is finished first
plan a k/host
journal a: began checked stage:k move:g1>b close stop
⇒ begin install k a

# so is one of which it is not known whether it is closed
plan a k/host
journal a: began checked stage:k move:g1>b close/unanswered stop
⇒ record undone close a

# another visit's failure stops a drain, and finishes a closed host
hosts a:g1 b:g2 c
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close b: began blocked
⇒ begin install k a

# a host is skipped that has not begun
plan a k/host
journal skip:a
⇒ record left a

# one that is not closed is left where it stands
hosts a:g1,g2 b c
plan a k/host
journal a: began checked stage:k move:g1>b skip:a
⇒ record left a

# one that is closed is brought to its end
plan a k/host
journal a: began checked stage:k move:g1>b close skip:a
⇒ begin install k a

# one that failed and is open can be left
plan a k/host
journal a: began blocked skip:a
⇒ record left a

# what was left out is named at the end
plan a k/host
journal a: left
⇒ end finished: every host has been visited but those that were left out: a

# a host closed by a lost round is adopted
plan a k/ adopt
journal a: began checked
seen a.mark=lost
⇒ begin adopt a

# its mark does not block
plan a k/ adopt
journal a: began
seen a.mark=lost
⇒ record checked a

# and it is opened at the end
plan a k/ adopt
journal a: began checked adopt stage:k put:k proving proven
⇒ begin reopen a

# a staged file with another hash is a failure
plan a k/
journal a: began checked stage:k/accepted
seen trace:stage:k=other
⇒ record failed stage k a: k.file arrived on a with the hash other instead of sum-k

# staged as wanted
plan a k/
journal a: began checked stage:k/accepted
seen trace:stage:k=sum-k
⇒ record done stage k a

# a configuration that did not arrive is fetched again
plan a k/ backup
journal a: began checked stage:k backup/unanswered
⇒ record undone backup a

# invariant 9: a host stays owed until its opening is seen
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open/accepted
⇒ record failed reopen a: it is closed

# a host that somebody else closed is not opened
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving proven open/unanswered
seen a.mark=theirs
⇒ record stuck reopen a: it is closed by night shift (theirs)

# a service that still runs the old is tried again
plan a s/service
journal a: began checked put:s/accepted
⇒ record failed service restart s a

# a service that runs the new is done
plan a s/service
journal a: began checked put:s/accepted
seen a.s:runs=yes
⇒ record done service restart s a

# services that still run what a package replaced restart, where that is what it takes
plan a k/service
journal a: began checked stage:k put:k
seen a.k:held=k.service
⇒ begin service restart k a

# a service that the plan does not name is left as it is, whatever it runs
plan a k/service
journal a: began checked stage:k put:k
seen a.k:held=dbus.service
⇒ record proving a

# and told
plan a k/service
journal a: began checked stage:k put:k proving
seen a.k:held=dbus.service
⇒ record proven a: dbus.service still run what deb:k replaced, and were not to be restarted

# where its own scripts have restarted them there is nothing to do
plan a k/service
journal a: began checked stage:k put:k
⇒ record proving a

# once, and what holds on to it after that is told
plan a k/service
journal a: began checked stage:k put:k serve:k proving +21m
seen a.k:held=k.service
⇒ record unproven a: k.service still run what deb:k 2 replaced

# guests that run the old are no service
plan a k/service
journal a: began checked stage:k put:k
seen a.k:guests=g1
⇒ record proving a

# what nobody says must restart is left as it is
plan a k/
journal a: began checked stage:k put:k
seen a.k:held=k.service
⇒ record proving a

# a restart of the host is to come, and does it for all
plan a k/service l/host
journal a: began checked stage:k stage:l move:g1>b close backup put:k+l
seen a.k:held=k.service
⇒ begin restart a

# which of them hold on is not guessed
plan a k/service
journal a: began checked stage:k put:k
seen a.stale
⇒ look

# guests are not sent to a host that is to be emptied next
plan a k/host
plan b k/host
journal a: began checked stage:k
⇒ begin move g1 a>c

# a look at a host is one look, whatever it is for
brief out=2
plan a k/
plan b k/host
journal a: began checked stage:k put:k/accepted
seen stale
⇒ look a guests,host,trace; look b guests,host

# where a guest goes is looked at too
plan a k/host
journal a: began checked stage:k move:g1>b/unanswered
seen b.stale
⇒ look b guests,host

# a restart is under way for no longer than it may take
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +31m59s
⇒ say a: it was told to

# to the second
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +32m
⇒ record overdue restart a

# that a restart takes longer than it usually does is said before anybody is alarmed
plan a k/host usual:8m
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +7m
seen a.silent
⇒ say a: silent for 7 min, as expected … takes 8 min

# and for how long it is waited for
plan a k/host usual:8m
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +9m
seen a.silent
⇒ say a: silent for 9 min: longer than usual, which is 8 min, and it is waited for another 51 min

# how long a restart usually takes is the plan's word
plan a k/host usual:8m
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +59m
seen a.silent
⇒ say a: … which is 8 min, and it is waited for another 1 min

# and the plan's worst case
plan a k/host usual:8m
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +60m
seen a.silent
⇒ record overdue restart a: it did not come back within 60 min … usually it takes 8 min

# a time of day that is set forth takes nobody's patience
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +5m leapt:1h
seen a.silent
⇒ say a: silent for 5 min

# nor one that is set back: what was waited for is not waited for for longer
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet +31m leapt:-1h +1m
seen a.silent
⇒ record overdue restart a: it did not come back within 32 min

# what was under way when the time of day leapt has lasted as long as it did
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +31m leapt:1h +9m
⇒ record overdue restart a: it has been under way for 40 min

# what can't be read is waited for as long, whatever the time of day
plan a k/host
journal a: began checked stage:k waits +5m leapt:1h +5m
seen b.silent
⇒ say a: waits since

# and no longer
plan a k/host
journal a: began checked stage:k waits +5m leapt:1h +15m
seen b.silent
⇒ record blocked a: b does not answer

# patience is for what somebody waited for: after a runner's last entry it is not known that anybody did
plan a k/
journal a: began checked stage:k put:k/unheard +5m pause
journal a: +3h taken claim
seen trace:put:k=unasked
⇒ say a: silent for 5 min

# a runner whose clock is behind that of the one before waits no longer
plan a k/
journal a: began checked stage:k put:k/unheard +5m pause
journal a: -3h taken claim +15m
seen trace:put:k=unasked
⇒ record overdue install k a: no answer for 20 min

# what was under way then has lasted as long as it did, for as much as the entries tell
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +5m pause
journal a: -3h taken claim +35m
⇒ record overdue restart a: it has been under way for 40 min

# proving has its time too, when the time of day is set
plan a k/
journal a: began checked stage:k put:k proving +5m leapt:1h +14m
seen a.k=1
⇒ say a

# when a runner takes it on after hours
plan a k/
journal a: began checked stage:k put:k proving +5m pause
journal a: +3h taken +14m
seen a.k=1
⇒ say a

# and no more than that
plan a k/
journal a: began checked stage:k put:k proving +5m leapt:1h +15m
seen a.k=1
⇒ record unproven a

# waiting for what can't be read has it when a runner takes it on after hours
plan a k/host
journal a: began checked stage:k waits +5m pause
journal a: +3h taken +14m
seen b.silent
⇒ say a: waits since

# and when a runner takes it on after hours, it has the rest of its time
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted +5m pause
journal a: +3h taken claim +26m
⇒ say a: it was told to

# the host of a restart is borne with as long when another runner takes it on
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted taken goon claim/unheard +31m
seen a.silent
⇒ say a: silent for 31 min

# and no longer
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/accepted taken goon claim/unheard +32m
seen a.silent
⇒ record overdue claim a

# a claim for something else is borne with as anything is
plan a k/
journal a: began checked stage:k put:k/accepted taken goon claim/unheard +20m
seen a.silent
⇒ record overdue claim a

# what was not proven is proven anew when the round goes on
plan a k/
journal a: began checked stage:k put:k proving +21m unproven goon
⇒ record proving a

# a contradiction waits for what is in flight
plan a k/
journal a: began checked stage:k put:k/accepted
seen contradicted trace:put:k=running
⇒ nothing

# another host that is being closed does not let a drain go on after a stop
hosts a:g1 b:g2,g3 c
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close/accepted b: began checked stage:k move:g2>c stop
seen calls:close
⇒ nothing

# a failure on a closed host is written on it when what is in flight has landed
plan a k/host l/host
journal a: began checked stage:k stage:l move:g1>b close put:k/accepted blocked
seen trace:put:k=running
⇒ nothing

# two passes: the first restart comes before the second's changes
plan a k/host f/host/2
journal a: began checked stage:k stage:f move:g1>b close put:k
⇒ begin restart a

# and the second pass after it
plan a k/host f/host/2
journal a: began checked stage:k stage:f move:g1>b close put:k restart:1
⇒ begin flash f a

# with a restart of its own
plan a k/host f/host/2
journal a: began checked stage:k stage:f move:g1>b close put:k restart:1 put:f
⇒ begin restart a

# and then it is proven
plan a k/host f/host/2
journal a: began checked stage:k stage:f move:g1>b close put:k restart:1 put:f restart:2
⇒ record proving a

# a guest in flight takes at its target what it takes, whoever else is on the host
hosts a:g1,g2 b c
brief moves=3
plan a k/host
journal a: began checked stage:k move:g1>b/accepted
seen trace:move:g1=running a-g1 a+g1:big b+y c+z:big c+u
⇒ nothing

# a host of ours that restarts does not keep another's guests from moving
hosts a:g1 b:g2 c
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close put:k restart:1/quiet b: began checked stage:k
seen a.silent
⇒ begin move g2 b>c

# one that is not closed does
hosts a:g1 b:g2 c
brief out=2
plan a k/host
plan b k/host
journal b: began checked stage:k a: began checked stage:k move:g1>c
seen a.silent
⇒ record waits b: a does not answer: no new moves; record waits a

# a host of ours that restarts does not keep another's prechecks from clearing
hosts a:g1 b:g2 c
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close put:k restart:1/quiet b: began
seen a.silent
⇒ record checked b

# a silent host that is visited still counts as out
hosts a:g1 b:g2 c d
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close put:k restart:1/quiet
seen a.silent d.mark=theirs
⇒ say b: out of service: a (visited), d (closed by night shift: theirs), and at most 2

# a visit that needs no empty host begins beside one that does
brief out=2
plan a k/host
plan b k/
journal a: began checked stage:k/accepted
seen calls:stage:k c.mark=theirs
⇒ record began b

# a skipped visit does not hold those after it
plan a k/
plan b k/
journal a: left
⇒ record began b

# a restart that ends while the round is asked to stop is settled all the same
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/quiet stop
seen a.boot=new
⇒ record heard restart a; record done restart a

# a change that was left out is not made, and the rest is
plan a k/host l/host
journal a: began checked stage:k stage:l move:g1>b close put:k/failed drop:k
⇒ begin install l a

# what was left out is not proven, and its hash is not asked for
plan a k/host l/host
journal a: began checked stage:k stage:l move:g1>b close drop:k put:l restart:1 proving
seen a.k=1
⇒ record proven a

# a restart for what was left out alone is none
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed drop:k
⇒ record proving a

# what was left out need not stand any more
plan a k/host l/host
journal a: began checked stage:k stage:l move:g1>b close blocked drop:k
seen withdrawn:k
⇒ begin install l a

# a payload that two changes share is staged for the one that is made
plan a k/host
journal a: began drop:k checked
⇒ record proving a

# what somebody wants out of its BMC's queue is taken out of it, before the visit is checked anew
plan a k/host
journal a: began blocked queued:1,2
⇒ begin clear tasks a

# and the visit goes on
plan a k/host
journal a: began blocked queued:1,2 clear
⇒ record checked a

# nobody else clears anything
plan a k/
journal a: began checked stage:k put:k proving
seen a.queue
⇒ say a: not proven yet: in its BMC's queue there is left: 1

# nor with another setting of its firmware
plan a k/
journal a: began checked stage:k put:k proving
seen a.board=2
⇒ say a: not proven yet: its firmware's setting mode is "2", and was "1"

# nor where none is told any more
plan a k/
journal a: began checked stage:k put:k proving
seen a.board
⇒ say a: not proven yet: its firmware's settings are not told any more

# one that is new is none that was changed
plan a k/
journal a: began checked stage:k put:k proving
seen a.board=1
⇒ record proven a

# what applies too is made in a further pass, before the host is proven
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving
seen more:l
⇒ record extended a

# the pass that was not planned is made like any other
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving extend:l
⇒ begin stage l a

# it is put in
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving extend:l stage:l
⇒ begin install l a

# and the host restarts for it
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving extend:l stage:l put:l
⇒ begin restart a

# and held to what it was to bring
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving extend:l stage:l put:l restart:2 proving
seen a.l=1
⇒ say a: not proven yet: deb:l is "1" and should be "2"

# three passes beyond the plan are enough
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving extend:l stage:l put:l restart:2 proving extend:f stage:f put:f restart:3 proving extend:d stage:d put:d restart:4 proving
seen more:s
⇒ record proven a

# what waited before is not left by the visit
plan a k/
journal a: began checked:queue stage:k put:k proving
seen a.queue
⇒ record proven a

# a flash that hangs in the queue keeps nobody from clearing it
plan a f/bmc
journal a: began checked stage:f close put:f/stuck queued:1
seen trace:put:f=running
⇒ begin clear tasks a

# where they can't be cleared a person must look
plan a k/host
journal a: began blocked queued:1 clear/failed clear/failed
⇒ end failed: a: clear tasks failed: for a reason

# and what could not be cleared is not tried again without end
plan a k/host
journal a: began blocked queued:1 clear/failed clear/failed goon
⇒ record checked a

# the logs of what failed are fetched before anything else is written there, and before the round ends
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed
seen unlogged
⇒ logs a of a; wake in

# a move that failed is the host's that it left
plan a k/host
journal a: began checked stage:k move:g1>b/failed move:g1>b/failed move:g1>b/failed
seen unlogged
⇒ logs a of a

# what was held up before it began has none
plan a k/host
journal a: began blocked
seen unlogged
⇒ end failed: a: precheck failed

# a person's word settles what no look can: a host that does not answer
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue goon word:restart:1=done
seen a.silent
⇒ record done restart a: op says "it was done": a reason

# and that it was not done
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue goon word:restart:1=undone
seen a.silent
⇒ record undone restart a: op says "it was not done": a reason

# a look goes before anybody's word
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue goon word:restart:1=undone
seen a.boot=new
⇒ record refuted restart a: op says "it was not done" … a look finds it done boot new

# under another lease the host is told of that before a word counts
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue taken goon word:restart:1=done
⇒ begin claim a

# a host that is handed over gets the person's mark
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed give
⇒ begin hand over a

# and then it is handed over
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed give hand
⇒ record handed over a: it is op's from now on: a reason

# one that does not answer keeps the round's mark, and that is told with what is owed
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1/overdue give
seen a.silent
⇒ record handed over a: it is op's … it does not answer: no answer … whether it came to "restart (pass 1)" is not known

# so does one that refuses the mark
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed give hand/failed
⇒ record handed over a: it is op's … its mark could not be changed: for a reason … owed: it is closed

# what is in flight lands before a host is handed over
plan a k/host
journal a: began checked stage:k move:g1>b/accepted give
seen trace:move:g1=running
⇒ say a

# the others do not go on while a host that was handed over is out of service, and that is no failure
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>b close put:k/failed give hand handed
⇒ end stopped: b waits: … handed over: a

# where the brief allows that many they do
hosts a:g1 b:g2 c d
brief out=2
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close put:k/failed give hand handed
⇒ record began b

# a host on trial that is handed over proves nothing
brief trial=a out=2
plan a k/host
plan b k/
journal a: began checked stage:k move:g1>b close put:k/failed give hand handed
⇒ end stopped: b waits: a was on trial and was handed over: … handed over: a

# a round that is ended begins nothing more
plan a k/host
plan b k/host
journal end
⇒ record left a: op ended the round; record left b: op ended the round

# it leaves a host that is not closed
plan a k/host
journal a: began checked stage:k end
⇒ record left a: op ended the round … guests that moved away stay where they are

# it brings a host that is closed and well to its end
plan a k/host
journal a: began checked stage:k move:g1>b close put:k end
⇒ begin restart a

# and hands one over that failed
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed end
⇒ begin hand over a

# one that failed before it was closed is left
plan a k/host
journal a: began checked stage:k/failed end
⇒ record left a: op ended the round, after: …

# guests that rest for it are started first
plan a k/host rests:g1
journal a: began checked stage:k down:g1 close/failed end
⇒ begin start g1 a

# where it is not known how an act came out it is handed over, closed or not
plan a k/host
journal a: began checked stage:k move:g1>b/overdue end
⇒ record handed over a: … owed: whether it came to "move g1 to b" is not known

# it ends when nothing is left
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>b close put:k/failed end hand handed b: left
⇒ end finished: op ended it: a reason … not visited: b … handed over: a

# by hand: a host is emptied and closed
brief hand=close
plan a keeps
journal a: began checked
⇒ begin move g1 a>b

# then it is closed, and the person's
brief hand=close
plan a keeps
journal a: began checked move:g1>b close
⇒ begin hand over a

# and that is all
brief hand=close
plan a keeps
journal a: began checked move:g1>b close hand
⇒ record handed over a: it is op's from now on: a fan

# a round of it ends well
brief hand=close
plan a keeps
journal a: began checked move:g1>b close hand handed
⇒ end finished: every host has been visited … handed over: a

# somebody else's closing is taken without anything else
brief hand=take
plan a takes adopt
journal a: began checked adopt
⇒ begin hand over a

# by hand: a restart is proven
brief hand=restart
plan a reboots
journal a: began checked move:g1>b close restart:1
⇒ record proving a

# one that was closed stays so, proven
brief hand=restart
plan a reboots takes adopt
journal a: began checked adopt move:g1>b restart:1 proving proven
⇒ begin hand over a

# by hand: what is owed from before is undone once the host is open
brief hand=open
plan a adopt owes:g1
journal a: began checked adopt proving proven
⇒ begin reopen a

# the guests last
brief hand=open
hosts a:g1/off b c
plan a adopt owes:g1
journal a: began checked adopt proving proven open
⇒ begin start g1 a

# proof: a host that comes back with less memory is not as it was
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving +30m
seen a.memory=97
⇒ record unproven a: it has 97 MiB of memory …

# a little less is firmware's
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving
seen a.memory=98
⇒ record proven a

# nor with fewer processors
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving +30m
seen a.cpu=99
⇒ record unproven a: it has …

# nor with something that is ill and was not told of before
plan a k/host
journal a: began checked stage:k move:g1>b close put:k restart:1 proving +30m
seen a.fan2
⇒ record unproven a: fan 2 is not well, and nothing was told of it before: it stands

# a claim that is refused is not repeated before somebody lets the round go on
plan a k/host
journal a: began checked stage:k move:g1>b/accepted taken claim/failed
⇒ end failed: a: claim failed: for a reason

# and then it is
plan a k/host
journal a: began checked stage:k move:g1>b/accepted taken claim/failed goon
⇒ begin claim a

# what comes to nothing again and again is given up
plan a k/host
journal a: began checked stage:k/undone stage:k/undone stage:k/undone stage:k/undone stage:k/undone stage:k/unanswered
⇒ record failed stage k a: it was tried 6 times, and nothing came of it each time …

# but not too soon
plan a k/host
journal a: began checked stage:k/undone stage:k/undone stage:k/undone stage:k/undone stage:k/unanswered
⇒ record undone stage k a

# and somebody may let it be tried again
plan a k/host
journal a: began checked stage:k/undone stage:k/undone stage:k/undone stage:k/undone stage:k/undone stage:k/failed goon stage:k/unanswered
⇒ record undone stage k a

# a host that hears of no new lease can be handed over all the same, with what nobody knows
plan a k/host
journal a: began checked stage:k move:g1>b/accepted taken claim/failed give
⇒ record handed over a: … owed: whether it came to "move g1 to b" is not known

# where the brief lets a failed host be left behind it is handed over, and the round goes on
hosts a:g1 b:g2 c d
brief out=2 leaves=1
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close put:k/failed
⇒ begin hand over a

# one that is not closed is left out
brief out=2 leaves=1
plan a k/host
plan b k/host
journal a: began blocked
⇒ record left a: left as it is, and the round goes on, after: precheck failed: for a reason

# no more than it says
hosts a:g1 b:g2 c d e
brief out=3 leaves=1
plan a k/host
plan b k/host
plan d k/host
journal a: began checked stage:k move:g1>c close put:k/failed hand handed b: began checked stage:k move:g2>c close put:k/failed remark
⇒ end failed: b: install failed: for a reason

# one that somebody asked to leave out does not count
hosts a:g1 b:g2 c d
brief out=2 leaves=1
plan a k/host
plan b k/host
journal skip:a a: left b: began blocked
⇒ record left b: left as it is …

# and why stands on it and in the journal
hosts a:g1 b:g2 c d
brief out=2 leaves=1
plan a k/host
plan b k/host
journal a: began checked stage:k move:g1>c close put:k/failed hand
⇒ record handed over a: it is op's from now on: the round left it, after: install failed: for a reason

# why it stays closed is written on a host whose hook is gone, once
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed
seen a.loose
⇒ begin remark a

# and such a host can be handed over
plan a k/host
journal a: began checked stage:k move:g1>b close put:k/failed give
seen a.loose
⇒ begin hand over a
`
