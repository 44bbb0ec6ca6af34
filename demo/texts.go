package demo

const rulebookText = `kind: rulebook
title: Quillmere tram-side switches
maker: Quillmere
revised: 2026-11-02
sources:
  RN842: "Release notes 8.4.2, revision C"
  SN17: "Quillmere service note 17, of 2026-08-20"
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
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs?=(?P<revisions>\S+))?(?:\s+sha256=(?P<sha256>[0-9a-f]{64}))?$'}
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
  - {version: 8.4.1, date: 2026-08-01, families: [tram-l2], brings: {boot: 3.2.0, main: 8.4.1, poe: "2.2"}, withdrawn: "uplinks flap after a cold start", source: SN17}
  - {version: 8.3.1, date: 2026-05-12, families: [tram-l2], brings: {boot: 3.1.4, main: 8.3.1}}
  - {version: 8.2.1, date: 2025-11-20, families: [tram-l2], brings: {boot: 3.1.4, main: 8.2.1}}

hops:
  upward: open
  downward: closed
  rules:
    - {from: "<8.0.0", to: ">=8.2.0", allow: false, source: RN842, why: "the settings store changes at 8.0"}

transfer: {protocol: tftp, largest: 32MiB, longest_name: 63, blocksize: false}

procedure:                         # the device's own wording; a text/template
  backup:   'save settings to {{.Server}}/{{.Device}}.cfg'
  transfer: 'fetch {{.File}} from {{.Server}}{{if .Slot}} into slot {{.Slot}}{{end}}'
  verify:   'show digest {{if .Slot}}slot {{.Slot}}{{else}}{{.Component}}{{end}}'
  activate: 'start from slot {{.Slot}}'
  save:     'save settings'
  restart:  'restart now'
  check:    'show system'
  back:     'start from slot {{.Active}}, then restart now'

captures:                          # how to read this line's console output
  - recognise: '^Tramline OS'
    read:
      name:           '^(\S+)> show system'
      model:          '^Model\s*:\s*(\S+)'
      revision:       '^Board rev\s*:\s*(\S+)'
      serial:         '^Serial\s*:\s*(\S+)'
      installed.boot: '^Boot loader\s*:\s*(\S+)'
      installed.main: '^Running\s*:\s*(\S+)'
      installed.poe:  '^PoE firmware\s*:\s*(\S+)'
      start.saved:    '^Start choice\s*:\s*(saved|unsaved)'
      job.state:      '^Job\s*:\s*(idle|running|done|failed)'
      job.reason:     '^Job failed\s*:\s*(.+)$'
    each:
      slots: '^Slot (?P<name>[AB])\s+(?P<main>\S+)(?P<active>\s+\*)?(?P<next>\s+next)?'
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
