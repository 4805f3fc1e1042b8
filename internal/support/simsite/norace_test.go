//go:build !race

package simsite_test

const raceDetector = false
