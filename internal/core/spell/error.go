package spell

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"syscall"
)

// Error says an error without the words of a library or of the system, in one line. What tells a
// person of an error says it so.
func Error(err error) string {
	text := err.Error()
	switch {
	case errors.Is(err, context.DeadlineExceeded) && strings.Contains(text, context.DeadlineExceeded.Error()):
		text = strings.ReplaceAll(text, context.DeadlineExceeded.Error(), "it took too long")
	case errors.Is(err, context.Canceled) && strings.Contains(text, context.Canceled.Error()):
		text = strings.ReplaceAll(text, context.Canceled.Error(), "it was stopped")
	}
	var file *fs.PathError
	if errors.As(err, &file) {
		text = strings.ReplaceAll(text, file.Error(), fileWords(file.Path, file.Err))
	}
	if said, words := textWords(err); said != "" {
		text = strings.ReplaceAll(text, said, words)
	}
	text = libraryNames().ReplaceAllString(text, "$1")
	for _, w := range libraryWords {
		text = strings.ReplaceAll(text, w[0], w[1])
	}
	return strings.ReplaceAll(text, "\n", "; ")
}

// libraryWords are ends of a library's errors, and what is said in their place; "i/o timeout" is
// os.ErrDeadlineExceeded.
var libraryWords = [][2]string{{": " + fs.ErrNotExist.Error(), ""}, {": " + io.ErrUnexpectedEOF.Error(),
	": it ends too early"}, {": i/o timeout", ": it took too long"},
	{fs.ErrNotExist.Error(), "it is not there"}, {io.ErrUnexpectedEOF.Error(), "it ends too early"}}

// fileWords says what is wrong with a file without the system's name of the call.
func fileWords(path string, err error) string {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "no such file or folder: " + path
	case errors.Is(err, fs.ErrExist):
		return path + " is there already"
	case errors.Is(err, fs.ErrPermission):
		return "the computer does not allow this user to open " + path
	case errors.Is(err, syscall.EROFS):
		return path + " lies on a disk that takes no writes"
	case errors.Is(err, syscall.ENOSPC):
		return "the computer's disk is full: " + path + " could not be written"
	case errors.Is(err, syscall.EDQUOT):
		return "this user's share of the computer's disk is full: " + path + " could not be written"
	case errors.Is(err, syscall.EISDIR):
		return path + " is a folder, and a file is wanted"
	case errors.Is(err, syscall.ENOTDIR):
		return path + " is no folder, or lies below a file, and a folder is wanted"
	case errors.Is(err, syscall.EIO):
		return "the computer's disk fails at " + path
	}
	return path + ": " + err.Error()
}
