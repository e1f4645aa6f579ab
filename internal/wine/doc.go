// Package wine holds the tests that run under Wine alone: the program as it is built for Windows, with
// a phone made of software on a cable of Windows' own kind. scripts/wine-test runs them.
package wine
