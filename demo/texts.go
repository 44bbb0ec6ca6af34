package demo

const rulebookText = `kind: rulebook
title: Quillmere tram-side switches
maker: Quillmere
revised: 2026-11-02
sources:
  RN842: "Release notes 8.4.2, revision C"
layouts: [qmi.yaml]

models:
  QM-8T:
    also: [QM8T, QM-8T-P]
    families: [tram-l2]
    revisions:
      A1: {arch: arm,   boards: ["quillmere,qm8t-a"], slot: 32MiB, memory: 256MiB}
      A2: {arch: arm,   boards: ["quillmere,qm8t-a"], slot: 32MiB, memory: 256MiB}
      B1: {arch: arm64, boards: ["quillmere,qm8t-b"], slot: 64MiB, memory: 512MiB}
  QM-24T:
    families: [tram-l2]
    revisions:
      A1: {arch: arm, boards: ["quillmere,qm24t-a"], slot: 32MiB, memory: 256MiB}

families:
  tram-l2:
    components:                    # in the order they are installed
      boot: {title: boot loader, optional: true}
      main: {title: system image, slotted: true}
      poe:  {title: PoE controller, optional: true}

versions:
  default:
    pattern: '^v?(?P<major>\d+)\.(?P<minor>\d+)\.(?P<patch>\d+)(?P<fix>[a-z])?$'
    order: [major, minor, patch, fix]
  boot: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}
  poe: natural

packages:
  - title: release bundle
    file: '^qm-tram(?:-a)?-(?P<version>[\d.]+[a-z]?)\.zip$'
    handling: unpacked
    manifest: {item: '**/*_manifest.txt', form: lines,
               heading: '^\[(?P<models>[^\]]+)\]$',
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs?=(?P<revisions>\S+))?$'}
    checksums: '**/*.sha256'
    signature: {item: '**/*_manifest.sig', of: manifest, key: quillmere.pem}
    notes: ['**/*notes*.txt']
    items:
      - {match: '**/boot/*.bin', component: boot, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
      - {match: '**/poe/*.qmi', component: poe}
  - title: single system image
    file: '^(?P<model>QM-\w+)-(?P<version>[\d.]+[a-z]?)\.img$'
    items:
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}

releases:
  - version: 8.4.2
    date: 2026-09-30
    channel: current
    families: [tram-l2]
    brings: {boot: 3.2.0, main: 8.4.2, poe: "2.2"}
    needs:
      - {component: boot, within: ">=3.2.0", source: RN842, why: "older boot loaders reject the new header"}
      - {component: main, within: ">=8.2.1", source: RN842}
      - {memory: 256MiB}
    minutes: {install: 12, outage: 8}
    checks_after: ["all ports with power draw deliver power"]
  - {version: 8.3.1, date: 2026-05-12, families: [tram-l2], brings: {boot: 3.1.4, main: 8.3.1}}
  - {version: 8.2.1, date: 2025-11-20, families: [tram-l2], brings: {boot: 3.1.4, main: 8.2.1}}

hops:
  upward: open
  downward: closed
  rules:
    - {from: "<8.0.0", to: ">=8.2.0", allow: false, source: RN842, why: "the settings store changes at 8.0"}
`

const vellowayText = `kind: rulebook
title: Velloway tunnel radios
maker: Velloway
revised: 2026-10-20
sources:
  VN42: "Velloway release letter 4.2"

models:
  VR-310:
    also: [VR310]
    families: [wave]
    revisions:
      v1: {arch: arm,   boards: ["velloway,vr310-v1"], slot: 8MiB, memory: 128MiB}
      v2: {arch: arm64, boards: ["velloway,vr310-v2"], slot: 8MiB, memory: 256MiB}

families:
  wave:
    components:
      main: {title: system image, slotted: true}

versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}

packages:
  - title: radio image
    file: '^vr310-(?P<version>[\d.]+)\.itb$'
    handling: whole
    items:
      - {match: '*.itb', component: main, title: '^Velloway (?P<model>VR-\d+) (?P<version>\S+)$'}

releases:
  - {version: 4.2.0, date: 2026-10-12, families: [wave], source: VN42, minutes: {install: 6, outage: 4}}
  - {version: 4.1.0, date: 2026-04-02, families: [wave]}

hops:
  upward: open
  downward: open
`

const layoutText = `kind: layout
name: qmi
title: Quillmere image header
magic: {at: 0, hex: "51 4D 49 31"}
endian: big
fields:
  - {name: header_size,  at: 4,  type: u16}
  - {name: board,        at: 6,  type: u16, fact: board, values: {0x0801: "quillmere,qm8t-a", 0x0802: "quillmere,qm8t-b"}}
  - {name: revisions,    at: 8,  type: u32, fact: revisions, bits: {0: A1, 1: A2, 4: B1}}
  - {name: version,      at: 12, type: text, size: 16, fact: version}
  - {name: built,        at: 28, type: unix32, fact: built}
  - {name: payload_size, at: 32, type: u32}
  - {name: payload_crc,  at: 36, type: u32}
  - {name: header_crc,   at: 40, type: u32}
payload: {at: header_size, size: payload_size}
checks:
  - {sum: crc32, over: payload, equals: payload_crc}
  - {sum: crc32, over: header,  equals: header_crc, zeroed: [header_crc]}
`

const tunnel3 = `kind: device
name: tunnel-3
model: VR-310
revision: v2
boards: ["velloway,vr310-v2"]
installed: {main: 4.1.0}
slots:
  - {name: "1", main: 4.1.0, active: true}
  - {name: "2", main: 4.0.2}
`

const cabinet07 = `kind: device
name: cabinet-07
model: QM-8T
revision: A2
serial: "0417-221"
installed: {boot: 3.1.4, main: 8.2.1, poe: "2.1"}
slots:
  - {name: A, main: 8.2.1, active: true}
  - {name: B, main: 7.9.1}
read_from: {model: "cab07.txt:3", revision: "cab07.txt:4", installed.main: "cab07.txt:5"}
`

const cabinet12 = `kind: device
name: cabinet-12
model: QM-8T
revision: B1
serial: "0529-034"
installed: {boot: 3.1.4, main: 8.3.1}
slots:
  - {name: A, main: 8.3.1, active: true}
  - {name: B, main: 8.3.1}
read_from: {model: "cab12.txt:3", revision: "cab12.txt:4", installed.main: "cab12.txt:5"}
`

const notesText = `Quillmere tram release 8.4.2, release notes, revision C

Before you install
  The boot loader must be 3.2.0 or later; the bundle brings it.
  Devices below 8.2.1 go to 8.2.1 first.

Afterwards
  See that all ports with power draw deliver power.
`

const errorPage = `<!DOCTYPE html>
<html lang="en">
<head><title>Quillmere downloads: please sign in</title></head>
<body>
<h1>Your session has ended</h1>
<p>Sign in again to go on with your download.</p>
</body>
</html>
`
