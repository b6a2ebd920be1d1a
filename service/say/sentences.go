package say

import "fmt"

// A Sentence is told to people about values: the words, with a place for each value. All
// sentences stand here, so that they can be reworded without touching a rule.
type Sentence string

// With puts values into the sentence.
func (s Sentence) With(values ...any) string {
	if len(values) == 0 {
		return string(s)
	}
	return fmt.Sprintf(string(s), values...)
}

// What changes of rights did.
const (
	Granted            Sentence = "granted %s on %s to %s"
	WithGrantOption    Sentence = " with grant option"
	Revoked            Sentence = "revoked %s on %s from %s"
	RevokedOption      Sentence = "revoked the grant option for %s on %s from %s"
	AGrant             Sentence = "a grant of %s on %s"
	DisabledNotEntered Sentence = "%s is disabled; it was not granted USAGE"
	EntersAlready      Sentence = "%s could enter all of it already"
	RevealLifts        Sentence = "REVEAL on %s would lift the policy %s, which you may not stop: this needs MANAGE on %s"
	RevealLiftsOne     Sentence = "REVEAL on %s would lift a policy that you may not stop"
	RevokedAdminOption Sentence = "revoked the admin option for %s from %s"
	PutIn              Sentence = "put %s in %s"
	TookOut            Sentence = "removed %s from %s"
	Gave               Sentence = "granted %[2]s to %[1]s"
	Took               Sentence = "revoked %[2]s from %[1]s"
	AsGrantedBy        Sentence = ", as granted by %s"
	WithAdminOption    Sentence = " with admin option"
	AlsoHas            Sentence = "%s also has %s from %s, %s; that membership is unchanged"
	WithoutEnd         Sentence = "without end"
	UntilDay           Sentence = "until %s"
	EndsWithGivers     Sentence = "it ends on %s, when the giver's own membership ends"
	MadeOwner          Sentence = "made %s the owner of %s"
	MadeOwnerAbove     Sentence = "made the owner of what %s is in its owner again"
	WhichWas           Sentence = ", which was %s's"
	ViewNeedsOwner     Sentence = "a view with its owner's rights needs an owner of its own; it is closed until it has one"
	RolesStay          Sentence = "consider a role as the owner: roles stay when people leave"
)

// What changes of drafts and revisions did.
const (
	OpenedDraft      Sentence = "opened the draft %s"
	IsIn             Sentence = "%s is in %s"
	Narrower         Sentence = "queries read %d of the %d tables of %s by it"
	Unused           Sentence = "nobody used it in %[2]d days: %[1]s"
	UnusedWhy        Sentence = "a right that nobody needs is one that can only be misused"
	TooWide          Sentence = "wider than its use: %s"
	TooWideWhy       Sentence = "%s within %d days"
	NothingUnused    Sentence = "%s used all of it within %d days: there is nothing to take back"
	UnusedReason     Sentence = "nobody used it within %d days"
	UsedTest         Sentence = "%d queries within %d days"
	FilledDraft      Sentence = "put %s of another draft into it"
	AddedWebhook     Sentence = "added the webhook %s to %s, about %s (%s)"
	ChangedWebhook   Sentence = "changed the webhook %s: to %s, about %s (%s)"
	RemovedWebhook   Sentence = "removed the webhook %s to %s"
	TriedWebhook     Sentence = "tried the webhook %s"
	CheckFails       Sentence = "The check %s does not hold: %s, but %s"
	CheckHoldsAgain  Sentence = "The check %s holds again: %s"
	TestFailing      Sentence = "the access test %s fails: %s"
	TestFailingWhy   Sentence = "it states that %s; it has failed since %s"
	InDraft          Sentence = "in the draft %s, until that is published"
	PutInDraft       Sentence = "put into the draft %s: %s"
	TookFromDraft    Sentence = "took out of the draft %s: %s"
	RestNoLongerFits Sentence = "without it, %s of the draft no longer fit"
	DroppedDraft     Sentence = "dropped the draft %s, with %s in it"
	PublishedDraft   Sentence = "published the draft %s of %s"
	UndidRevision    Sentence = "undid revision %d of %s: %s"
	NamedRevision    Sentence = "named revision %d %s"
	UnnamedRevision  Sentence = "took the name %s off its revision"
	Misfits          Sentence = "change %d (%s) does not fit what is there now: %s"
	CountedImpact    Sentence = "counted the rows that the draft %s would show"
	NotCounted       Sentence = "rows were not counted: %s"
	CountedFirst     Sentence = "rows were counted for the first %d of %d pairs of person and table"
	LoadedFiles      Sentence = "loaded %s"
	NothingToLoad    Sentence = "there is nothing to load: all of it is as the files say"
	NoPasswordBack   Sentence = "%s has no password yet: set one, or make a token"
)

// What guardrails and access tests come to.
const (
	AddedGuardrail   Sentence = "added the guardrail %s: %s"
	ChangedGuardrail Sentence = "changed the guardrail %s: %s"
	RemovedGuardrail Sentence = "removed the guardrail %s"
	AddedTest        Sentence = "added the access test %s, of what %s gets of %s"
	ChangedTest      Sentence = "changed the access test %s, of what %s gets of %s"
	RemovedTest      Sentence = "removed the access test %s"
	BreaksGuardrail  Sentence = "it breaks the guardrail %s (%s): %s"
	BrokenAlready    Sentence = "the guardrail %s is broken as it is: %s"
	SetAside         Sentence = "set aside the guardrail %s: %s"
	PathOf           Sentence = " by %s"
	Expected         Sentence = "expected %s, got %s"
	TestFails        Sentence = "the access test %s (%s) does not hold with it: %s"
	TableGone        Sentence = "%s is gone from its source"
	SubjectGone      Sentence = "%s is gone, or disabled"
	NotCountedTest   Sentence = "its rows were not counted: %s"
	CheckedRows      Sentence = "ran the access tests"
)

// What changes of bundles, lanes and labels did.
const (
	AddedBundle   Sentence = "added the bundle %s: %s"
	ChangedBundle Sentence = "changed the bundle %s from %s to %s, in %s"
	RemovedBundle Sentence = "removed the bundle %s"
	AddedLane     Sentence = "added lane:%s: %s"
	ChangedLane   Sentence = "changed the limits of lane:%s to %s"
	LaneUnused    Sentence = "nobody may use it yet: gneiss grant usage on lane:%s to SUBJECT"
	RemovedLane   Sentence = "removed %s, with %s on it"
	AddedLabel    Sentence = "added %s: about %s, %s"
	ChangedLabel  Sentence = "changed %s: about %s, %s"
	RemovedLabel  Sentence = "removed %s, off %s, with %s on it"
	PutLabel      Sentence = "put %s on %s"
	LiftedLabel   Sentence = "lifted %s off %s"
	LabelUnused   Sentence = "no policy uses %s yet, so nothing is treated: gneiss policy columns add NAME --on %s --treat …"
	Dismissed     Sentence = "dismissed %s for %s; it is not suggested there again"
	Added         Sentence = "added %s"
)

// What changes of policies and relationships did.
const (
	AddedRowPolicy      Sentence = "added the row policy %s: %s"
	AddedColumnPolicy   Sentence = "added the column policy %s: %s"
	ChangedRowPolicy    Sentence = "changed the row policy %s: %s"
	ChangedColumnPolicy Sentence = "changed the column policy %s: %s"
	PublishedPolicy     Sentence = "published the policy %s"
	StoppedPolicy       Sentence = "stopped the policy %s"
	DraftedPolicy       Sentence = "made a draft of the policy %s"
	RemovedPolicy       Sentence = "removed the policy %s"
	CoversNothing       Sentence = "%s covers no table now"
	UnknownShown        Sentence = "where %s is NULL the condition is not true, so the value is shown as it is; to treat those rows too, add: OR %s IS NULL"
	StillRevealed       Sentence = "REVEAL still shows some of it in clear to %s"
	LabelOnNothing      Sentence = "no column has %s now; columns that get it later will be treated"
	DraftHasNoEffect    Sentence = "a draft takes no effect until it is published: gneiss policy publish %s"
	NobodySees          Sentence = "nobody will see any row of %s: %s may read it, and no allow policy applies to them"
	Declared            Sentence = "declared the relationship from %s to %s"
	Forgot              Sentence = "removed the relationship from %s to %s"
	ReplacedKey         Sentence = "replaced the key of pseudonyms"
	OtherPseudonyms     Sentence = "pseudonyms and stable noise differ from those handed out before; joins within a query still work"
)

// What changes of subjects did.
const (
	SetDescription    Sentence = "set the description of %s to %q"
	ReportsTo         Sentence = "had %s report to %s"
	ReportsToNobody   Sentence = "had %s report to nobody"
	Disabled          Sentence = "disabled %s"
	Enabled           Sentence = "enabled %s"
	TookAttribute     Sentence = "removed the attribute %s from %s"
	SetAttribute      Sentence = "set the attribute %s of %s to %s"
	SetPassword       Sentence = "set the password of %s"
	EndedSession      Sentence = "ended the connection %s of %s"
	Renamed           Sentence = "renamed %s to %s; its grants are unchanged"
	RulesCompareNames Sentence = "rules with %s compare with the name: columns and entitlement tables that hold the old name no longer match"
	RemovedSubject    Sentence = "removed %s, with %s to it and %s"
	LosesOwner        Sentence = "%s loses its owner"
	ReportsFromNow    Sentence = "%s reports to %s from now on"
	NothingToImport   Sentence = "nothing to import: everything in it is there already"
	Imported          Sentence = "imported %s"
)

// What changes of sources and views did.
const (
	Connected      Sentence = "connected the source %s: %s"
	MovedSource    Sentence = "moved the source %s to %s: %s, %s"
	Disconnected   Sentence = "disconnected the source %s, with %s; nothing in its database was touched"
	StaysForSource Sentence = "grants, policies and views on it stay and take no effect; they take effect again when a source is connected under this name"
	Scanned        Sentence = "scanned %s: %s, %s"
	ThereIsNow     Sentence = "there is now %s"
	IsMissing      Sentence = "%s is missing; its grants and policies stay, and take no effect"
	ClosedByPolicy Sentence = "; %s treated it, so the table is closed to the readers of that policy " +
		"until it is edited or stopped: the values may be in another column now"
	BelongsTo     Sentence = "%s belongs to %s, by a foreign key"
	AndMore       Sentence = "and %d more"
	TookIn        Sentence = "adopted the view %s"
	LeftOut       Sentence = "disowned the view %s"
	StaysOnView   Sentence = "grants and policies on it stay and take no effect; nothing in the database was touched"
	NoTable       Sentence = "no table"
	ItsOwner      Sentence = "its owner %s"
	TheAccount    Sentence = "the account that Gneiss connects with"
	ViewReads     Sentence = "it reads %s with the rights of %s; policies on these do not reach it, so it needs its own"
	MadeView      Sentence = "made the view %s, which reads its tables with %s"
	ReplacedView  Sentence = "replaced the view %s, which reads its tables with %s"
	ReadersRights Sentence = "its reader's rights"
	OwnersRights  Sentence = "the rights of its owner %s"
	Sealed        Sentence = "it is sealed: its text is shown to nobody without DESCRIBE on it"
	RemovedView   Sentence = "removed the view %s"
	StaysForView  Sentence = "grants on it stay and take no effect; they count again for a view of that name"
	ViewClosed    Sentence = "the view %s reads it, and is closed until it is there again"
)

// What statements of SQL about rights did.
const (
	ActingInAll Sentence = "acting in all your roles"
	ActingIn    Sentence = "acting in %s until SET ROLE NONE"
	Revision    Sentence = "revision %d"
	Gains       Sentence = "%s gains %s"
	Loses       Sentence = "%s loses %s"
	Note        Sentence = "note: %s"
)

// What a change means for others.
const (
	TablesOf          Sentence = "%d tables of %s"
	On                Sentence = "%s on %s"
	OnHow             Sentence = "%s on %s %s"
	ColonHow          Sentence = "%s: %s"
	TheColumn         Sentence = "the column %s"
	InsteadOf         Sentence = "%s instead of %s"
	ToWrite           Sentence = "to write: %s"
	InClear           Sentence = "in clear"
	NoEffectYet       Sentence = "the grant to %s has no effect yet: %s"
	ToChangeThat      Sentence = ". To change that, %s"
	NoLongerEffective Sentence = "%s on %s to %s, granted by %s, no longer has an effect: the grant that it depended on has ended"
	AlsoRevoked       Sentence = "also revoked: %s on %s to %s by %s"
)

// How a subject stands to an object, in a few words.
const (
	LaneOpen             Sentence = "open: queries may run here"
	LaneShut             Sentence = "not open: no query may run here"
	Callable             Sentence = "may be called"
	DoorAboveShut        Sentence = "cannot be reached: a door above it is shut"
	NotCallable          Sentence = "may not be called"
	About                Sentence = "about %s, %s"
	OnColumns            Sentence = "; on %s"
	Enters               Sentence = "can enter"
	EntersSome           Sentence = "can enter some of it"
	CannotEnter          Sentence = "can't enter"
	Readable             Sentence = "%s; %d of %d tables readable"
	WritesOnly           Sentence = "may %s; does not read"
	SelectBehindDoor     Sentence = "has SELECT, but can't enter %s: USAGE is missing"
	NeitherDoorNorSelect Sentence = "can't enter; no SELECT"
	NoSelect             Sentence = "can enter; no SELECT"
	Reads                Sentence = "reads"
	ReadsAndWrites       Sentence = "reads, and may %s"
	ViewTrouble          Sentence = "no rows: the view reads what may not be read"
	AsTablesAllow        Sentence = "rows and columns as the policies of its tables allow"
	NotReadable          Sentence = "not readable"
	ColumnGone           Sentence = "no rows: a column that a policy treats is gone from the source"
	NoRowAllowed         Sentence = "no rows: no row policy allows any"
	SomeRows             Sentence = "some rows"
	SomeRowsBy           Sentence = "some rows, by %s"
	AllRows              Sentence = "all rows"
	AllColumns           Sentence = "all columns"
	SomeColumns          Sentence = "columns %s"
	ColumnsInClear       Sentence = "%s in clear"
	ColumnsTreated       Sentence = "%s, treated: %s"
	ForSomeRows          Sentence = "%s for some rows"
	AsInTables           Sentence = "as in its tables"
	CannotEnterDoor      Sentence = "can't enter %s"
	TableClosed          Sentence = ", but the table is closed: %s"
	ForNoValues          Sentence = ", for no values"
	ForValues            Sentence = ", for %s"
)

// Why somebody has a right, or does not.
const (
	PathSays           Sentence = "%s → %s on %s"
	ByGrantor          Sentence = " by %s"
	OnDay              Sentence = ", %s"
	BuiltIn            Sentence = ", built in"
	Ticket             Sentence = ", ticket %s"
	Has                Sentence = "%s has %s on %s"
	GoneFromSource     Sentence = "%s is no longer in its source; no right on it takes effect"
	HasNot             Sentence = "%s does not have %s on %s. Missing: %s"
	ButNoLane          Sentence = ". But they may use no lane, so they can run no query"
	HoldsAndCannotRead Sentence = "%s holds SELECT on %s, and cannot read it: %s"
	GrantSays          Sentence = "%s on %s to %s"
	Expired            Sentence = "its end date has passed"
	BasisEnded         Sentence = "the grant that it depended on has ended (%s)"
	NoLongerInSource   Sentence = "%s is no longer in its source"
	NoMatch            Sentence = "nothing matches its pattern yet"
	NoMembers          Sentence = "%s has no members"
	IsDisabled         Sentence = "%s is disabled"
	NoLane             Sentence = "its holders may use no lane, so they can run no query"
	DoorShut           Sentence = "%s can't enter %s: USAGE is missing"
)

// What can be done about something.
const (
	DoGrant           Sentence = "grant %s on %s to %s"
	DoGive            Sentence = "give %s to somebody"
	DoAddMember       Sentence = "add somebody to %s"
	DoEnable          Sentence = "enable %s"
	DoEditPolicy      Sentence = "edit the policy %s"
	DoStopPolicy      Sentence = "stop the policy %s"
	DoAddColumnPolicy Sentence = "add a column policy for %s"
	DoRevoke          Sentence = "revoke %s on %s from %s"
	DoRemove          Sentence = "remove %s"
	DoTakeOut         Sentence = "take %s out of %s"
	DoNarrow          Sentence = "grant SELECT on %s"
	DoTake            Sentence = "take %s from somebody"
)

// Findings, each with why it matters.
const (
	MoreOfKind         Sentence = "and %d more of this kind"
	MoreOfKindWhy      Sentence = "fix these first, then list the findings again"
	GuardrailBroken    Sentence = "the guardrail %s is broken: %s"
	GuardrailBrokenWhy Sentence = "it states that %s"
	Broken             Sentence = "the policy %s no longer fits %s: %v"
	BrokenWhy          Sentence = "its table is closed until somebody edits or stops the policy"
	Lent               Sentence = "the policy %s reads %s, which its writer %s no longer manages"
	LentWhy            Sentence = "the policy still shows data from that table, although its writer has lost the right to"
	PastPolicies       Sentence = "%s may read tables past the policies"
	PastPoliciesWhy    Sentence = "it is not IMMUTABLE, or SECURITY DEFINER: who holds EXECUTE on it, its schema or its source " +
		"gets what it gives, whatever policies hide; grant that to few"
	Refreshed             Sentence = "%s holds rows of other tables, as of its last refresh"
	RefreshedWhy          Sentence = "policies on those tables do not reach it; it needs its own"
	Uncovered             Sentence = "%s has %s (%s), and no live policy treats it"
	UncoveredWhy          Sentence = "everyone who has SELECT on it sees it in clear"
	DormantGrant          Sentence = "%s has no effect: %s"
	DormantWhy            Sentence = "either somebody relies on it, or it was left behind"
	ToPublicWhy           Sentence = "everyone has it, including future users"
	ToUser                Sentence = "%s, directly to a user"
	ToUserWhy             Sentence = "rights given through roles are found, reviewed and taken back together"
	Broad                 Sentence = "%s covers the whole %s"
	BroadWhy              Sentence = "it covers every table there, present and future"
	Redundant             Sentence = "%s adds nothing"
	RedundantWhy          Sentence = "%s on %s to %s gives the same"
	NoMembersWhy          Sentence = "its grants have no effect now, and take effect for the next member, whoever that is"
	DisabledWithRights    Sentence = "%s is disabled and has %s"
	DisabledWithRightsWhy Sentence = "they return, unreviewed, when the account is enabled again"
	NoSignIn              Sentence = "%s has %s, and neither a password nor a token"
	NoSignInWhy           Sentence = "nobody can use them now; whoever sets a password for it can"
	Alike                 Sentence = "%s is named almost like %s"
	AlikeWhy              Sentence = "one of the two may be a typo"
	NoEnd                 Sentence = "%s has %s without an end date"
	NoEndWhy              Sentence = "%d of %d others have one"
	Administrators        Sentence = "%d subjects are administrators: %s"
	AdministratorsWhy     Sentence = "more than %d; each can grant themself everything"
)
