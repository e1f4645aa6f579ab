package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"io"
	"time"
)

// tarred writes a .tar.gz: nobody's files, of one time.
func tarred(w io.Writer, list []file, at time.Time) error {
	z, err := gzip.NewWriterLevel(w, gzip.BestCompression)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for _, f := range list {
		if err := t.WriteHeader(&tar.Header{Name: f.name, Mode: f.mode, Size: int64(len(f.data)), ModTime: at,
			Format: tar.FormatUSTAR}); err != nil {
			return err
		}
		if _, err := t.Write(f.data); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	return z.Close()
}

// zipped writes a .zip.
func zipped(w io.Writer, list []file, at time.Time) error {
	z := zip.NewWriter(w)
	for _, f := range list {
		out, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: at})
		if err != nil {
			return err
		}
		if _, err := out.Write(f.data); err != nil {
			return err
		}
	}
	return z.Close()
}
