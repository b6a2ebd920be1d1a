// Package classify proposes labels for columns: what the data are about, from a
// column's name, its type and a sample of its values.
//
// Each detector looks at one form of data. It finds evidence in the name (bank_account),
// in the share of sampled values that have the form (an at sign with a domain), and, where the
// form has a checksum, in the share whose checksum is right: IBAN by ISO 13616,
// payment cards by ISO/IEC 7812. Evidence adds up to a confidence between 0 and
// 1. It never contains a value.
//
// A proposal is for an administrator to accept or dismiss; nothing here decides.
package classify
