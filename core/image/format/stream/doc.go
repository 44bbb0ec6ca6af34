// Package stream reads the headers of compressed streams and archives. What they hold package archive
// opens.
package stream
