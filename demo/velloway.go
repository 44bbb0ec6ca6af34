package demo

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
)

const vellowayText = `kind: rulebook
title: Velloway radios and gateways
maker: Velloway
revised: 2026-10-20
sources:
  VN42: "Velloway release letter 4.2"
  VG51: "Velloway gateway notes 5.1"
  VC24: "Velloway controller notes 2.4"

models:
  VR-310:
    also: [VR310]
    families: [wave]
    revisions:
      v1: {arch: arm,   boards: ["velloway,vr310-v1"], slot: 8MiB, memory: 128MiB}
      v2: {arch: arm64, boards: ["velloway,vr310-v2"], slot: 8MiB, memory: 256MiB}
  VG-20:                           # gateway; also sold as a virtual appliance
    families: [ops]
    revisions:
      r1: {arch: x86_64, boards: ["velloway,vg20-r1"], slot: 16MiB, memory: 1GiB}
      r2: {arch: arm64,  boards: ["velloway,vg20-r2"], slot: 16MiB, memory: 1GiB}
  VC-40:                           # controller of the radios
    families: [baton]
    arch: mips
    boards: ["velloway,vc40"]

families:
  wave:
    components:
      main: {title: system image, slotted: true}
  ops:
    components:
      main: {title: system image, slotted: true}
  baton:
    components:
      loader: {title: loader}
      system: {title: system}
    paired: [[loader, system]]     # they carry one version and move together

versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}

packages:
  - title: radio image
    file: '^vr310-(?P<version>[\d.]+)\.itb$'
    handling: whole
    items:
      - {match: '*.itb', component: main, title: '^Velloway (?P<model>VR-\d+) (?P<version>\S+)$'}
  - title: gateway bundle
    file: '^vg20-(?P<version>[\d.]+)(?:-(?P<platform>virtual))?\.zip$'
    handling: unpacked
    manifest: {item: '**/release.json', form: json, groups: targets.*, group_fields: {models: models, platform: platform},
               records: images.*, fields: {component: role, file: path, version: version, revisions: boards, arch: cpu, sha256: sha256}}
    items:
      - {match: '**/*.img', component: main, title: '^(?P<model>VG-\d+) (?P<version>\S+)$'}
  - title: controller loader
    file: '^vc40-loader-(?P<version>[\d.]+)\.bin$'
    handling: whole
    components: [loader]
    items:
      - {match: '*.bin', component: loader, title: '^(?P<model>VC-\d+) loader (?P<version>\S+)$'}
  - title: controller system
    file: '^vc40-system-(?P<version>[\d.]+)\.bin$'
    handling: whole
    components: [system]
    items:
      - {match: '*.bin', component: system, title: '^(?P<model>VC-\d+) system (?P<version>\S+)$'}

releases:
  - {version: 4.2.0, date: 2026-10-12, families: [wave], source: VN42, minutes: {install: 6, outage: 4}}
  - {version: 4.1.0, date: 2026-04-02, families: [wave]}
  - {version: 5.1.0, date: 2026-09-08, families: [ops], source: VG51, minutes: {install: 15, outage: 5}}
  - {version: 5.0.2, date: 2026-03-17, families: [ops]}
  - {version: 2.4.1, date: 2026-07-21, families: [baton], brings: {loader: 2.4.1, system: 2.4.1}, source: VC24, minutes: {install: 9, outage: 9}}
  - {version: 2.4.0, date: 2026-06-30, families: [baton], brings: {loader: 2.4.0, system: 2.4.0}}
  - {version: 2.3.0, date: 2025-12-04, families: [baton], brings: {loader: 2.3.0, system: 2.3.0}}

hops:
  upward: open
  downward: open
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

const opsGateways = `kind: device
name: ops-gateways
model: VG-20
platform: physical
slots:
  - {name: "1", main: 5.0.2, active: true}
  - {name: "2"}
group: cluster
uniform: true
members:
  - name: gw-1
    revision: r1
    serial: GW-1107
    installed: {main: 5.0.2}
    read_from:
      revision: captures/ops-gateways.json:10
      serial: captures/ops-gateways.json:12
      installed.main: captures/ops-gateways.json:11
  - name: gw-2
    revision: r2
    serial: GW-1131
    installed: {main: 5.0.2}
    read_from:
      revision: captures/ops-gateways.json:18
      serial: captures/ops-gateways.json:20
      installed.main: captures/ops-gateways.json:19
`

const radioController = `kind: device
name: radio-controller
model: VC-40
serial: VC-0088
installed: {loader: 2.3.0, system: 2.3.0}
`

// Further numbers of U-Boot's include/image.h.
const (
	mips   = 5
	x86_64 = 24
)

// gatewayBundle is a bundle for the gateways: for the hardware with an image
// for each of its two boards, or for the virtual appliance.
func gatewayBundle(release string, virtual bool) []byte {
	type image struct {
		Role    string   `json:"role"`
		Path    string   `json:"path"`
		Version string   `json:"version"`
		Boards  []string `json:"boards,omitempty"`
		CPU     string   `json:"cpu"`
		SHA256  string   `json:"sha256"`
	}
	type target struct {
		Models   []string `json:"models"`
		Platform string   `json:"platform"`
		Images   []image  `json:"images"`
	}
	t := target{Models: []string{"VG-20"}, Platform: "physical"}
	var files []entry
	add := func(name, cpu string, number byte, boards ...string) {
		data := UImage(osLinux, number, typeKernel, "VG-20 "+release, payload("gateway"+release+name, 420<<10))
		files = append(files, entry{name, data})
		t.Images = append(t.Images, image{"main", name, release, boards, cpu, fmt.Sprintf("%x", sha256.Sum256(data))})
	}
	if virtual {
		t.Platform = "virtual"
		add("vg20-virtual.img", "x86_64", x86_64)
	} else {
		add("vg20-r1.img", "x86_64", x86_64, "r1")
		add("vg20-r2.img", "arm64", arm64, "r2")
	}
	list, err := json.MarshalIndent(struct {
		Release string   `json:"release"`
		Targets []target `json:"targets"`
	}{release, []target{t}}, "", "  ")
	must(err)
	return zipped(append(files, entry{"release.json", list})...)
}

// controllerHalf is one half of what the radio controller runs.
func controllerHalf(half, release string) []byte {
	kind := byte(typeKernel)
	if half == "loader" {
		kind = typeFirmware
	}
	return UImage(osLinux, mips, kind, "VC-40 "+half+" "+release, payload("controller"+half+release, 96<<10))
}
