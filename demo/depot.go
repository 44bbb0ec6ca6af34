package demo

import (
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
)

// The core stack at the depot: two models, three boards, and a member that was
// put in only lately.

const coreText = `kind: rulebook
title: Quillmere core switches
maker: Quillmere
revised: 2026-10-30
sources:
  RN630: "Core release notes 6.3.0"
  RN641: "Core release notes 6.4.1, revision B"
  CM9: "Brackwater Tramway, certified versions 9, of 2026-11-05"

models:
  QM-48C:
    families: [tram-core]
    revisions:
      A1: {arch: arm,   boards: ["quillmere,qm48c-a1"], slot: 16MiB, memory: 512MiB}
      A2: {arch: arm64, boards: ["quillmere,qm48c-a2"], slot: 16MiB, memory: 512MiB}
  QM-48F:
    families: [tram-core]
    revisions:
      B1: {arch: arm64, boards: ["quillmere,qm48f-b1"], slot: 32MiB, memory: 1GiB}

families:
  tram-core:
    components:                    # in the order they are installed
      boot: {title: boot loader, optional: true}
      main: {title: system image, slotted: true}
    factory_reset: other-slot

versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}

packages:
  - title: core bundle
    file: '^qm-core-(?P<version>[\d.]+)\.zip$'
    handling: unpacked
    manifest: {item: '**/core_files.txt', form: lines,
               heading: '^\[(?P<models>[^\]]+)\]$',
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)\s+revs?=(?P<revisions>\S+)\s+(?P<sha256>[0-9a-f]{64})$'}
    notes: ['**/NOTES.md']
    items:
      - {match: '**/*boot*.bin', component: boot, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}

releases:
  - version: 6.4.1
    date: 2026-10-21
    channel: current
    families: [tram-core]
    brings: {main: 6.4.1, boot: 2.0.0}
    needs:
      - {component: boot, within: ">=2.0.0", source: RN641, why: "older boot loaders do not start the larger image"}
      - {companion: controller, within: ">=5.1", source: RN641}
    minutes: {install: 18, outage: 9}
    checks_after: ["every member is listed as ready", "the uplinks to both substations carry traffic"]
  - version: 6.3.0
    date: 2026-04-14
    channel: long-term
    families: [tram-core]
    brings: {main: 6.3.0}            # its bundle carries no boot loader
    needs:
      - {component: boot, within: ">=2.0.0", source: RN630, why: "the system image is started in another way"}
    minutes: {install: 16, outage: 9}
  - {version: 6.1.2, date: 2025-09-02, families: [tram-core], brings: {main: 6.1.2, boot: 1.9.3}, minutes: {install: 15, outage: 7}}
  - {version: 6.0.4, date: 2025-02-11, families: [tram-core], brings: {main: 6.0.4, boot: 1.9.3}, minutes: {install: 15, outage: 7}}

certified:                         # what the tramway has tried together
  - name: depot-2026
    source: CM9
    versions:
      - {model: QM-48C, main: 6.4.1, boot: ">=2.0.0"}
      - {model: QM-48F, main: 6.4.1, boot: ">=2.0.0"}
      - {model: VR-310, main: 4.2.0}                   # the radios of the tunnel, another line

hops:
  upward: open
  downward: closed
  rules:
    - {from: "<6.3.0", to: ">=6.4.0", allow: false, via: 6.3.0, source: RN641, why: "6.3.0 converts the settings store"}
    - {from: ">=6.3.0", to: ">=6.1.0 <6.3.0", allow: true, resets_config: true, source: RN630}

transfer: {protocol: tftp, largest: 32MiB, longest_name: 63, blocksize: true}
`

const depotCore = `kind: device
name: depot-core
group: stack
uniform: true
companions: {controller: 5.1.0}
storage_free: 180MiB
members:
  - name: core-1
    model: QM-48C
    revision: A1
    serial: 1109-007
    installed: {main: 6.1.2, boot: 1.9.3}
    slots: [{name: "1", main: 6.1.2, active: true}, {name: "2", main: 6.0.4}]
  - name: core-2
    model: QM-48C
    revision: A2
    serial: 1207-031
    installed: {main: 6.1.2, boot: 1.9.3}
    slots: [{name: "1", main: 6.1.2, active: true}, {name: "2", main: 6.0.4}]
  - name: core-3                   # put in last week
    model: QM-48F
    revision: B1
    serial: 1311-002
    installed: {main: 6.0.4, boot: 1.9.3}
    slots: [{name: "1", main: 6.0.4, active: true}, {name: "2"}]
`

const coreNotes = `# Quillmere core release %s

## Before you install

- The boot loader must be 2.0.0 or later. Install it first; the bundle of 6.3.0 does not carry it.
- Releases before 6.3.0 cannot go straight to 6.4: install 6.3.0 first, which converts the settings store.
- Requires controller 5.1 or later.
- At least 64 MiB of free storage on every member.

## Supported hardware

QM-48C of revisions A1 and A2, QM-48F of revision B1. The QM-48C of revision A0 is no longer supported.

## Known issues

- After a cold start the lamp of an empty slot may stay amber for some minutes (case 4471).

## Fixed

- Uplinks no longer flap when both power supplies are changed within a minute (case 4390).

Going back below 6.3.0 erases the configuration.
`

// coreBundle is a bundle for the core stack, with an image and a boot loader
// for each of the three boards; boot is "" for a bundle without.
func coreBundle(release, boot string) []byte {
	dir := "qm-core-" + release + "/"
	var files []entry
	var list strings.Builder
	fmt.Fprintf(&list, "# Quillmere core release %s\n", release)
	add := func(name string, data []byte) string {
		files = append(files, entry{dir + name, data})
		return fmt.Sprintf("%x", sha256.Sum256(data))
	}
	model := ""
	for _, b := range []struct {
		model, revision string
		arch            byte
	}{{"QM-48C", "A1", arm}, {"QM-48C", "A2", arm64}, {"QM-48F", "B1", arm64}} {
		if b.model != model {
			model = b.model
			fmt.Fprintf(&list, "\n[%s]\n", model)
		}
		stem := strings.ToLower(strings.ReplaceAll(model, "-", "") + "-" + b.revision)
		image := UImage(osLinux, b.arch, typeKernel, model+" "+release, payload(stem+release, 360<<10))
		fmt.Fprintf(&list, "main %s.img %s revs=%s %s\n", stem, release, b.revision, add(stem+".img", image))
		if boot == "" {
			continue
		}
		loader := UImage(osUBoot, b.arch, typeFirmware, model+" "+boot, payload("boot"+stem+boot, 90<<10))
		fmt.Fprintf(&list, "boot %s-boot.bin %s revs=%s %s\n", stem, boot, b.revision, add(stem+"-boot.bin", loader))
	}
	add("core_files.txt", []byte(list.String()))
	add("NOTES.md", fmt.Appendf(nil, coreNotes, release))
	return zipped(files...)
}

// The platform routers can leave the maker's own software for that of the
// community, by way of an image that converts the flash first; and the platform
// sign has an early release from which no way leads up.
const platformText = `kind: rulebook
title: Velloway platform routers and signs
maker: Velloway
revised: 2026-11-09
sources:
  LAN: "Lantern installation page for the VR-510, of 2026-11-01"
  VP53: "Velloway sign notes 5.3"
  VR51: "Velloway VR-510 service guide, chapter 7"

models:
  VR-510:
    also: [VR510]
    families: [stock, lantern-initial, lantern]
    revisions:                     # their flash is laid out in different ways
      v1: {arch: mips, boards: ["velloway,vr510"], slot: 8MiB, memory: 64MiB}
      v2: {arch: mips, boards: ["velloway,vr510-v2"], slot: 16MiB, memory: 128MiB}
  VP-12:
    families: [sign]
    arch: arm
    boards: ["velloway,vp12"]
    slot: 8MiB
    memory: 128MiB

families:
  stock:           {components: {main: {title: maker's system}}}
  lantern-initial: {components: {main: {title: converter image}}}
  lantern:         {components: {main: {title: community system}}}
  sign:            {components: {main: {title: system image}}}

versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)(?P<fix>[a-z])?$', order: [a, b, c, fix]}

packages:
  - title: Lantern image
    file: '^vr510-(?P<family>lantern(?:-initial)?)-(?P<version>[\d.]+)\.bin$'
    handling: whole
    items:
      - {match: '*.bin', component: main, title: '^(?P<model>VR-\d+) (?P<revision>v\d) (?P<family>\S+) (?P<version>\S+)$'}
  - title: images for recovery
    file: '^vr510-recovery-(?P<version>[\d.]+)\.zip$'
    handling: unpacked
    manifest: {item: '**/recovery_files.txt', form: lines, heading: '^\[(?P<models>[^\]]+)\]$',
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)\s+(?P<family>\S+)\s+revs?=(?P<revisions>\S+)\s+(?P<sha256>[0-9a-f]{64})$'}
  - title: router image
    file: '^vr510-(?P<version>[\d.]+)\.bin$'
    handling: whole
    items:
      - {match: '*.bin', component: main, title: '^(?P<model>VR-\d+) (?P<revision>v\d) (?P<family>\S+) (?P<version>\S+)$'}
  - title: sign image
    file: '^vp12-(?P<version>[\d.]+[a-z]?)\.bin$'
    handling: whole
    items:
      - {match: '*.bin', component: main, title: '^(?P<model>VP-\d+) (?P<version>\S+)$'}

releases:
  - {version: 3.4.0, date: 2025-03-03, families: [stock], minutes: {install: 5, outage: 4}}
  - {version: 23.4.0, date: 2026-08-14, families: [lantern-initial], source: LAN, minutes: {install: 6, outage: 6}}
  - {version: 23.4.0, date: 2026-08-14, families: [lantern], source: LAN, minutes: {install: 4, outage: 3}}
  - {version: 23.4.2, date: 2026-10-30, families: [lantern], source: LAN, minutes: {install: 4, outage: 3}}
  - {version: 5.1.4, date: 2025-06-10, families: [sign], minutes: {install: 7, outage: 6}}
  - {version: 5.2.0a, date: 2025-11-28, families: [sign], withdrawn: "wrote the settings in a form that later releases do not read", source: VP53}
  - {version: 5.3.0, date: 2026-09-15, channel: current, families: [sign], source: VP53, minutes: {install: 8, outage: 6}}

hops:
  upward: open
  downward: closed
  rules:
    - {from_family: stock, to_family: lantern-initial, allow: true, resets_config: true, source: LAN, why: "the converter image lays the flash out anew"}
    - {from_family: lantern-initial, to_family: lantern, allow: true, source: LAN}
    - {from: "5.2.0a", to: ">5.2.0a", allow: false, source: VP53, why: "its settings are not read"}
    - {from: "5.2.0a", to: "<5.2.0", allow: true, resets_config: true, source: VP53}

recovery:
  - models: [VR-510]
    revisions: [v2]
    enter: "hold the button beside the antenna, plug the power in, let go when the lamp blinks"
    signs: {ping_ttl: 200, lamp: "status lamp blinks amber twice"}
    not_yet: {ping_ttl: 64}
    network: {device: 10.77.0.1, host: 10.77.0.2/24}
    transfer: {protocol: tftp, direction: push, mode: octet, port: 69, within: 20s}
    accepts: {formats: [trx], components: [main], largest: 8MiB, wrapped: false}
    afterwards: {wait: 6m, note: "the lamp is green in the end; until then keep the power on", signs: {ping_ttl: 128}}
    source: VR51
`

const platform9 = `kind: device
name: platform-9
model: VR-510
revision: v1
serial: VR-5107
family: stock
installed: {main: 3.4.0}
`

const platform2 = `kind: device
name: platform-2
model: VR-510
revision: v2
serial: VR-5231
family: stock
installed: {main: 3.4.0}
state: boot-loader
`

const sign2 = `kind: device
name: sign-2
model: VP-12
serial: VP-0212
installed: {main: 5.2.0a}
`

// plainImage is an image that comes by itself.
func plainImage(arch byte, title string) []byte {
	return UImage(osLinux, arch, typeKernel, title, payload(title, 300<<10))
}

// TRX builds a TRX image of version 1 with one part: magic, length, CRC-32 of
// what follows it (not complemented), flags and version, offsets of three parts;
// all little-endian.
func TRX(part []byte) []byte {
	const size = 28
	b := append(make([]byte, size), part...)
	le := binary.LittleEndian
	copy(b, "HDR0")
	le.PutUint32(b[4:], uint32(len(b)))
	le.PutUint16(b[14:], 1)
	le.PutUint32(b[16:], size)
	le.PutUint32(b[8:], ^crc32.ChecksumIEEE(b[12:]))
	return b
}

// recoveryBundle holds the images that the boot loaders of the platform routers
// take, one for each board.
func recoveryBundle(release string) []byte {
	var files []entry
	var list strings.Builder
	fmt.Fprintf(&list, "# VR-510 recovery images %s\n\n[VR-510]\n", release)
	for _, rev := range []string{"v1", "v2"} {
		name := "vr510-" + rev + ".trx"
		data := TRX(plainImage(mips, "VR-510 "+rev+" stock "+release))
		files = append(files, entry{name, data})
		fmt.Fprintf(&list, "main %s %s stock revs=%s %x\n", name, release, rev, sha256.Sum256(data))
	}
	return zipped(append(files, entry{"recovery_files.txt", []byte(list.String())})...)
}
