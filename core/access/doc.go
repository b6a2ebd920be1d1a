// Package access is the access model: a tree of objects, the subjects that use
// them, the grants between the two, and the resolution that answers who may do
// what, by which path, or what is missing.
//
// # Objects
//
// Objects form a tree: platform, source, schema, table or view, column. A path
// names one from the source down, dotted, as in survey.drilling.boreholes. A
// part that is no plain identifier is double-quoted, as ISO/IEC 9075-2 has it
// for delimited identifiers; a plain part is folded to lower case.
//
// # Subjects
//
// Users and services act. Groups hold users, services and groups. Roles are
// named sets of grants and are given to any subject but PUBLIC. PUBLIC is
// everyone. A role given to a role is included in it; a loop is refused.
//
// # Grants
//
// A grant of a privilege on an object covers everything below it, present and
// future. USAGE is the exception: it is a door, and opens only the object it
// names. To SELECT from a table, a session needs SELECT at or above the table
// (or on columns of it), and USAGE on the schema and on the source. ALL carries
// every privilege that applies at or below its object, doors included; only
// REVEAL must be granted by its own name.
// DESCRIBE, MANAGE and AUDIT concern the model and the record, not the data,
// and need no door.
//
// # Use
//
// A [Model] is immutable: [Model.Apply] returns the next one and shares what
// did not change. [Model.Rights] takes a session's standpoint at one moment, and
// [Rights.Resolve] answers from it. Time always comes in as an argument. All
// of it may be used from many goroutines at once.
package access
