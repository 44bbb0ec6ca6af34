// Package disk reads the partition tables of disks.
package disk
