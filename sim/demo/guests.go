package demo

// guests says who runs where, a host a line: "host: name:GiB:cores…", and lines that are set in go on with it. After a
// slash stand a device that the guest holds (/dev=NAME), what is in its drive and only the host has (/iso=FILE), or
// that it is off (/off), and its labels (/label=NAME).
const guests = `
heron: radar-fuse-1:48:6 ais-decode-1:16:3 vts-console-1:24:2 vts-console-2:24:2 traffic-db-1:64:5 met-feed:8:1
  vhf-record-1:12:1 cctv-pier-1:16:2
ibis: radar-fuse-2:48:6 ais-decode-2:16:3 vts-console-3:24:2 vts-console-4:24:2 vhf-record-2:12:1 cctv-pier-2:16:2
  replay:96:6/label=batch
jacana: traffic-db-2:64:5 ais-archive:32:2 pilot-roster:8:1 notices:6:1 cctv-lock-1:16:2 cctv-lock-2:16:2
  vts-train:48:4/off
knot: radar-fuse-3:48:6 traffic-db-3:64:5 berth-plan:16:1 chart-tiles:24:2 nav-aids:8:1 cctv-quay-1:16:2
  cctv-quay-2:16:2
lapwing: ais-decode-3:16:3 vts-console-5:24:2 tug-dispatch:12:1 incident-log:16:1 bridge-audio:12:1
avocet: gauge-live-1:16:2 gauge-live-2:16:2 tide-tables:8:1 surge-model-1:96:12/label=batch datum-check:8:1
  wave-buoy-in:12:1 tides-web-1:8:2 tides-web-2:8:1
bittern: gauge-hist-1:64:4 gauge-hist-2:64:4/dev=clock-card surge-model-2:96:12/label=batch salinity:16:1
  dredge-plan:24:2 tides-web-3:8:2
curlew: gauge-live-3:16:2 current-model-1:64:8 wind-grid:32:4 alarm-relay-1:8:1 sms-out:6:1
dunlin: surge-model-3:96:12 ensemble-1:48:6 ensemble-2:48:6 wave-model-1:32:4 alarm-relay-2:8:1
egret: surge-model-4:96:12 storm-model-1:64:10 storm-model-2:64:10 obs-cache:24:2
fulmar: gauge-live-4:16:2 ensemble-3:48:6 ensemble-4:48:6 wave-model-2:32:4 flood-map:24:2 tides-web-4:8:2
  model-queue:12:1
godwit: old-archive:32:2/off
ruff: crane-ctl-1:16:2 crane-plan:32:3 gate-anpr-1:24:4/iso=anpr-setup.iso box-ocr-1:48:6 yard-db-1:48:3
stint: crane-ctl-2:16:2 gate-anpr-2:24:4 box-ocr-2:48:6 yard-db-2:48:3 reefer-watch:16:1
turnstone: crane-ctl-3:16:2 gate-anpr-3:24:4 yard-plan:64:4 weighbridge:8:1 customs-link:16:1 badge-office:16:1
whimbrel: crane-sim:48:6/label=batch gate-anpr-4:24:4 yard-replay:64:4 truck-slots:16:2 light-masts:8:1
`
