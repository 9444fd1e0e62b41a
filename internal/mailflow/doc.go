// Package mailflow decides on the way of a message, for Postfix, which asks it while a message is
// under way: how much may be sent, and as whom; what outgoing messages are signed with; and it
// passes on what is addressed to somewhere else. It runs without any rights, in a process of its
// own (victualler-mail), and knows what accounts have from a table that the agent writes.
//
// While it does not run, what would have to be asked waits: messages stay with whoever sends them,
// or in Postfix's queue. Nothing is lost, and nothing goes out without having been counted.
package mailflow
