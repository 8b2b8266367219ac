package finding

import "inkret/core/scan"

// mends says, for each kind, how such a leak is usually mended.
var mends = map[scan.Kind]string{
	scan.SecretValue: "Take the value out before the row is mapped: select the columns that are needed " +
		"instead of the whole row, and build a response object that has no place for it. Treat the value as known " +
		"to others and change it.",
	scan.SensitiveField: "Return a purpose-made object that lists what goes out, instead of the stored entity " +
		"less some fields. If a client needs the field, grant it in the contract with a reason.",
	scan.PersonalValue: "Find where the value gets in: often free text, or a name field that takes an address. " +
		"Leave it out, or grant the field with the class it really has.",
	scan.WrongAudience: "Choose the response object by the caller's audience on the server; do not send all " +
		"and hide some in the client. Check shared caches on the way too.",
	scan.UnexpectedRelation: "Do not let the mapper follow relations by itself. Cut the relation to a reference, or " +
		"to the few fields that the page shows.",
	scan.UnexpectedField: "List what goes out instead of removing what must not. If it is meant to be there, add " +
		"it to the contract.",
	scan.RenamedField: "Send the name that is promised, or change the contract and tell the clients that read " +
		"the old one; both at once for a while if they cannot move together.",
	scan.SensitiveInURL: "Send it in the body or a header: addresses are kept in logs, histories and caches on " +
		"the way. Change a secret that was sent so.",
	scan.OverPosting: "Read the request into a purpose-made object that has no place for more, instead of " +
		"into the entity; refuse or ignore the rest.",
	scan.HiddenDuplicate: "Find the two places that write the member and keep one; a filter that sees the first " +
		"may pass on the second.",
	scan.RevealingError: "Log what happened, with an id, on the server; answer with a text of your own and that id.",
	scan.CacheablePrivate: "Send Cache-Control: private or no-store with what depends on the caller, and Vary " +
		"where it is shared on purpose.",
	scan.SelectionIgnored: "Read the selection before the object is mapped, and map what was asked for; a client " +
		"on a slow line counts on it.",
	scan.UnevenExposure: "Choose one name and form and let both endpoints share a shape.",
	scan.HeavyExcess: "Most of these bytes are for nobody: cut the relations that hold them, see the wire " +
		"view for which.",
	scan.MissingField: "Send the member, with null where there is no value if the contract says nullable, or " +
		"mark the grant as optional.",
	scan.ValueMismatch: "Make the value fit the contract, or correct the contract if clients already rely on " +
		"what is sent.",
	scan.UndeclaredResponse: "Add a response for this status, or a shared one at the top of the contract for errors.",
	scan.UnknownEndpoint:    "Write a contract for the endpoint, or take the endpoint away if nobody needs it.",
}

// Mend says how a leak of this kind is usually mended; empty where there is no
// usual way.
func Mend(k scan.Kind) string { return mends[k] }
