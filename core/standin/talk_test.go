package standin

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/image/format"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

const talkRules = `kind: rulebook
title: tram routers
models: {TR-1: {families: [f], arch: arm}}
families: {f: {components: {boot: {title: loader}, main: {title: system}, radio: {title: radio}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
packages:
  - file: '^tr-(?P<version>[\d.]+)\.zip$'
    manifest: {item: list.txt, form: lines, record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+)$'}
    items:
      - {match: '*boot*', component: boot}
      - {match: '*.img', component: main, title: '^(?P<model>TR-\d) (?P<version>\S+)$'}
releases:
  - {version: "1.0", brings: {boot: "1.1", radio: "4.0"}}
  - {version: "2.0", brings: {boot: "1.2", radio: "4.1"}}
procedure:
  backup:   'copy settings to {{.Server}}/{{.Device}}.cfg'
  transfer: 'get {{.File}} from {{.Server}}{{if .Slot}} into {{.Slot}}{{end}}'
  verify:   'digest {{if .Slot}}slot {{.Slot}}{{else}}{{.File}}{{end}}'
  install:  'install {{.Component}}'
  activate: 'start {{.Slot}}'
  save:     'write'
  restart:  'reload'
  check:    'show all'
  back:     'start {{.Active}} again'
captures:
  - recognise: 'TR shell'
    read: {name: '^name (\S+)', model: '^Model: (\S+)', revision: '^Rev: (\S+)', serial: '^Serial: (\S+)', installed.boot: '^Boot: (\S+)', installed.main: '^Main: (\S+)', installed.radio: '^Radio: (\S+)',
           job.state: '^Job: (\S+)', job.reason: '^Job ended: (.+)$', start.saved: '^Choice saved: (yes|no)$'}
    each:
      slots: '^Slot (?P<name>\w) (?P<main>\S+)( boot (?P<boot>\S+))?(?P<active> \*)?(?P<next> next)?$'
      files: '^File (?P<file>\S+) (?P<component>\S+) (?P<version>\S+) (?P<size>\d+) (?P<md5>\w+)$'
      installed: '^Part (?P<component>\S+) (?P<version>\S+)$'
`

// TestWhatADeviceAnswers holds what played devices of lines that install in different ways say to commands, wrong ones
// too, against testdata/talks.txt.
func TestWhatADeviceAnswers(t *testing.T) {
	main, boot := demo.UImage(5, 2, 2, "TR-1 2.0", []byte(strings.Repeat("main", 90))), demo.UImage(17, 2, 5, "loader 1.2", []byte(strings.Repeat("boot", 90)))
	files := map[string][]byte{"tr/main.img": main, "tr/boot.bin": boot, "tr/list.txt": []byte("main main.img 2.0\nboot boot.bin 1.2\nradio gone.bin 4.1\n"), "tr/bad.txt": []byte("???\n"),
		"tr/cut.img": main[:100], "tr/other.img": demo.UImage(5, 2, 2, "TR-9 2.0", []byte("x"))}
	commands := []string{"", "help", "show all", "get tr/main.img from 192.0.2.1 into B", "show all", "digest slot B", "digest slot A", "digest tr/main.img", "digest tr/none", "start B", "show all", "reload",
		"start B", "write", "reload", "show all", "start A again", "reload", "get tr/none.img from 192.0.2.1 into B", "get tr/cut.img from 192.0.2.1 into A", "get tr/other.img from 192.0.2.1 into A",
		"get tr/boot.bin from 192.0.2.1", "get tr/boot.bin from 192.0.2.1 into B", "get tr/main.img from 192.0.2.1", "install boot", "install main", "show all", "start Z", "copy settings to 192.0.2.1/one.cfg", "reload", "show all",
		"get tr/list.txt from 192.0.2.1", "get tr/bad.txt from 192.0.2.1", "install main", "reload", "show all", "START b", "  write  ", "reload", "show all"}
	var b strings.Builder
	for _, c := range []struct{ name, install, device string }{
		{"slots", "", "slots: [{name: A, main: '1.0', active: true}, {name: B, main: '0.9', boot: '1.0'}]\n"},
		{"slots, one of them empty, and it restarts by itself", "install: {restart: automatic}\n", "slots: [{name: A, main: '1.0', active: true}, {name: B}]\n"},
		{"a storage", "install: {written_to: storage}\n", ""},
		{"a storage beside slots", "install: {written_to: storage, fetches: images}\n", "slots: [{name: A, main: '1.0', active: true}, {name: B, main: '0.9'}]\n"},
		{"by the manifest", "install: {fetches: manifest}\n", "slots: [{name: A, main: '1.0', active: true}, {name: B, main: '0.9'}]\n"},
		{"one slot", "", "slots: [{name: A, main: '1.0', active: true}]\n"},
	} {
		for _, fails := range []int{0, 2} {
			rb, err := rulebook.Read("tr.yaml", []byte(talkRules+c.install))
			require.NoError(t, err, c.name)
			d, err := device.Read("d.yaml", []byte("kind: device\nname: one\nmodel: TR-1\nserial: S1\nfamily: f\ninstalled: {boot: '1.1', main: '1.0', radio: '4.0'}\n"+c.device))
			require.NoError(t, err, c.name)
			fmt.Fprintf(&b, "## %s, %d times it fails\n", c.name, fails)
			u := &Upgrade{Box: member.Resolve(d, rb), Formats: format.Builtin(), FailFirst: fails}
			u.Fetch = func(_ context.Context, server, name string) ([]byte, error) {
				fmt.Fprintf(&b, "  (asks %s for %s)\n", server, name)
				if data, ok := files[name]; ok {
					return data, nil
				}
				return nil, errors.New("not there")
			}
			u.Tell = func(text string) { fmt.Fprintf(&b, "  (%s)\n", text) }
			require.NoError(t, u.Begin())
			for _, command := range commands {
				fmt.Fprintf(&b, "> %s\n", command)
				says, restarts := u.Do(context.Background(), command)
				for _, l := range says {
					fmt.Fprintf(&b, "%s\n", clock.ReplaceAllString(l, "…"))
				}
				if restarts {
					b.WriteString("  (it restarts)\n")
					u.Restart()
				}
			}
			b.WriteString("\n")
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "talks.txt"), b.String())
}

// clock is a time of day.
var clock = regexp.MustCompile(`\b\d\d:\d\d:\d\d\b`)
