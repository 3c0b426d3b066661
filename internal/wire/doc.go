// Package wire has the nouns as they travel over HTTP. The OpenAPI document, the console's types and the
// Go client all follow from these structs. They are types of their own: what the core and the records hold may change
// without anybody who speaks to the service noticing.
package wire
