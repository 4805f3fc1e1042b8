// Package s3 holds nothing but the version of the object store that the tests
// run against, apart from the product's own modules.
package s3
