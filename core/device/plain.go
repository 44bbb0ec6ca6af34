package device

import (
	"regexp"
	"strings"

	"fitcheck/core/fact"
)

// keyValue is a line such as "Model : QM-8T", "Model ..... QM-8T" or
// "model=QM-8T".
var keyValue = regexp.MustCompile(`^\s*(\pL[\pL\pN ()/_.'’°-]{0,40}?)\s*(?:[:=：]|\.{2,}:?)\s*(\S.*?)\s*$`)

// usual maps what consoles usually call a value, in lower case, to its key.
var usual = map[string]string{
	"model": "model", "model name": "model", "model number": "model", "product": "model", "product name": "model", "device model": "model", "hardware model": "model", "device type": "model",
	"revision": "revision", "hardware revision": "revision", "hw revision": "revision", "hw rev": "revision", "board revision": "revision", "board rev": "revision", "hardware version": "revision", "hw version": "revision",
	"serial": "serial", "serial number": "serial", "serial no": "serial", "system serial number": "serial", "chassis serial number": "serial",
	"running": "installed.main", "running version": "installed.main", "version": "installed.main", "software version": "installed.main", "system version": "installed.main", "firmware version": "installed.main", "firmware": "installed.main", "software": "installed.main", "image version": "installed.main", "os version": "installed.main",
	"boot": "installed.boot", "boot loader": "installed.boot", "bootloader": "installed.boot", "boot version": "installed.boot", "boot loader version": "installed.boot", "bootloader version": "installed.boot", "boot rom": "installed.boot",
	"arch": "arch", "architecture": "arch", "cpu architecture": "arch",
	"hostname": "name", "host name": "name", "system name": "name", "device name": "name",
	"memory": "memory", "total memory": "memory", "system memory": "memory", "ram": "memory", "dram": "memory",
	"free space": "storage_free", "flash free": "storage_free", "free flash": "storage_free", "storage free": "storage_free", "available space": "storage_free",
	"board": "boards", "board name": "boards", "board id": "boards",
	// Consoles speak other languages, too.
	"modell": "model", "gerät": "model", "gerätetyp": "model", "modèle": "model", "produit": "model", "modelo": "model", "modello": "model", "produkt": "model", "malli": "model", "модель": "model", "型号": "model", "機種": "model", "型番": "model",
	"hardware-revision": "revision", "hardwareversion": "revision", "revision matérielle": "revision", "révision": "revision", "révision matérielle": "revision", "revisión": "revision", "revisione": "revision", "revisão": "revision", "rewizja": "revision", "ревизия": "revision", "硬件版本": "revision", "ハードウェアリビジョン": "revision",
	"seriennummer": "serial", "seriennr.": "serial", "serien-nr.": "serial", "numéro de série": "serial", "n° de série": "serial", "número de serie": "serial", "numero di serie": "serial", "número de série": "serial", "serienummer": "serial", "numer seryjny": "serial", "серийный номер": "serial", "序列号": "serial", "シリアル番号": "serial",
	"firmwareversion": "installed.main", "softwareversion": "installed.main", "software-version": "installed.main", "version du logiciel": "installed.main", "logiciel": "installed.main", "versión": "installed.main", "versión de software": "installed.main", "versione": "installed.main", "versione software": "installed.main", "versão": "installed.main", "versie": "installed.main", "wersja": "installed.main", "версия": "installed.main", "版本": "installed.main", "软件版本": "installed.main", "バージョン": "installed.main",
	"bootloader-version": "installed.boot", "chargeur d'amorçage": "installed.boot", "cargador de arranque": "installed.boot", "загрузчик": "installed.boot", "ブートローダー": "installed.boot",
	"speicher": "memory", "arbeitsspeicher": "memory", "mémoire": "memory", "memoria": "memory", "memória": "memory", "pamięć": "memory", "память": "memory", "内存": "memory", "メモリ": "memory",
	"gerätename": "name", "nom": "name", "nom d'hôte": "name", "nombre": "name", "nome": "name", "naam": "name", "nazwa": "name", "имя": "name", "主机名": "name", "ホスト名": "name",

	"region": "region", "hypervisor": "hypervisor", "family": "family", "image family": "family",
}

// UsualKey is the key of a device file that consoles usually mean by a label; "" for none.
func UsualKey(label string) string {
	return usual[strings.ToLower(strings.Join(strings.Fields(label), " "))]
}

func init() {
	registerForm(form{rank: 100, read: func(in *input) (*Reading, bool, error) {
		r := readPlain(in.file, in.screen())
		return r, len(r.Values) > 0, nil
	}})
}

// readPlain proposes values from a capture that no rulebook reads. All of them
// are guesses: only a person or a rulebook knows what the words mean here.
func readPlain(file string, lines []line) *Reading {
	r := &Reading{File: file, Form: "console capture that no rulebook recognises, read as key: value"}
	for _, l := range lines {
		m := keyValue.FindStringSubmatch(l.bare())
		if m == nil {
			continue
		}
		key := UsualKey(m[1])
		if key == "" {
			continue
		}
		text := m[2]
		switch {
		case key == "arch" && !fact.KnownArch(text):
			continue
		case strings.HasPrefix(key, "installed."), key == "model", key == "revision", key == "serial", key == "boards":
			text = strings.TrimRight(strings.Fields(text)[0], ",;") // what follows is words
		}
		t, err := tidy(key, text)
		if err != nil {
			continue
		}
		r.add("", key, t, lineOf(file, l.number)).Guess = true
	}
	return r
}
