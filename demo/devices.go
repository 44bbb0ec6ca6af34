package demo

// The device files of the switches are what fitcheck device makes of their
// captures.

const cabinet07 = `kind: device
name: cabinet-07
model: QM-8T
revision: A2
serial: 0417-221
installed: {boot: 3.1.4, main: 8.2.1, poe: "2.1"}
slots:
  - {name: A, main: 8.2.1, active: true}
  - {name: B, main: 7.9.1}
read_from:
  name: captures/cab07.txt:1
  model: captures/cab07.txt:4
  revision: captures/cab07.txt:5
  serial: captures/cab07.txt:6
  installed.boot: captures/cab07.txt:7
  installed.main: captures/cab07.txt:8
  installed.poe: captures/cab07.txt:9
  slots.A: captures/cab07.txt:10
  slots.B: captures/cab07.txt:11
`

const cabinet12 = `kind: device
name: cabinet-12
model: QM-8T
revision: B1
serial: 0529-034
installed: {boot: 3.1.4, main: 8.3.1, poe: "2.1"}
slots:
  - {name: A, main: 8.3.1, active: true}
  - {name: B, main: 8.3.1}
read_from:
  name: captures/cab12.txt:1
  model: captures/cab12.txt:4
  revision: captures/cab12.txt:5
  serial: captures/cab12.txt:6
  installed.boot: captures/cab12.txt:7
  installed.main: captures/cab12.txt:8
  installed.poe: captures/cab12.txt:9
  slots.A: captures/cab12.txt:10
  slots.B: captures/cab12.txt:11
`
