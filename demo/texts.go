package demo

const rulebookText = `kind: rulebook
title: Quillmere tram-side switches
maker: Quillmere
revised: 2026-11-02
sources:
  RN842: "Release notes 8.4.2, revision C"

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

versions:
  default:
    pattern: '^v?(?P<major>\d+)\.(?P<minor>\d+)\.(?P<patch>\d+)(?P<fix>[a-z])?$'
    order: [major, minor, patch, fix]
  boot: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}

packages:
  - title: release bundle
    file: '^qm-tram(?:-a)?-(?P<version>[\d.]+[a-z]?)\.zip$'
    handling: unpacked
    manifest: {item: '**/*_manifest.txt', form: lines,
               heading: '^\[(?P<models>[^\]]+)\]$',
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs?=(?P<revisions>\S+))?$'}
    checksums: '**/*.sha256'
    notes: ['**/*notes*.txt']
    items:
      - {match: '**/boot/*.bin', component: boot, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
  - title: single system image
    file: '^(?P<model>QM-\w+)-(?P<version>[\d.]+[a-z]?)\.img$'
    items:
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}

releases:
  - version: 8.4.2
    date: 2026-09-30
    channel: current
    families: [tram-l2]
    brings: {boot: 3.2.0, main: 8.4.2}
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

const cabinet07 = `kind: device
name: cabinet-07
model: QM-8T
revision: A2
serial: "0417-221"
installed: {boot: 3.1.4, main: 8.2.1}
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
