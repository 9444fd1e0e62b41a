// Package usecase is what all use cases stand on. Read it first.
//
// A use case is an exported method of one of the packages beside this one. It is called with the
// [Actor]: who, on whose behalf, whose objects they reach, from where. In this order it
//
//  1. checks its input and finds what it is about: the Find functions here have the actor's scope
//     in their statement, so what is not the actor's is not there ([NotFound]);
//  2. begins its one transaction with [Change] or [Do], which gives a repeated request its first
//     answer and rolls a preview back;
//  3. locks what it is about to change, with the functions of locks.go and in their order;
//  4. lets the core decide, and writes rows;
//  5. writes the event ([Record]) and, where servers have to know, the operation, and queues the
//     work ([Queue]).
//
// So nothing is done that is not recorded, nor recorded and not done. A
// transaction talks to nobody: no agent, no mail server, no authority.
// What has to be asked is asked before it, or by the job after it.
//
// Helpers take (ctx, tx, actor, …) and begin no transaction. Refusals are errors of package
// refusal; anything else is a fault of ours or of the database.
//
// A preview ([Preview]) goes the same way. [Actor.Summarize] and [Actor.Note] collect its words,
// [Preview.AskServers] what is asked of servers once everything has been rolled back.
package usecase
