// Package filesystem reads the headers of file systems, and how far they reach. Their files package
// content reads.
package filesystem
