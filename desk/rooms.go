package desk

import (
	"glenrain/desk/background"
	"glenrain/desk/office"
	"glenrain/desk/people"
	"glenrain/desk/store"
)

// What screens know of the rooms below by the names that it has here.
type (
	// Store keeps files: see store.Store.
	Store = store.Store

	// Person is someone who signs in.
	Person = people.Person
	// PersonView is a person as lists of people show them.
	PersonView = people.PersonView
	// Role is what a person may do.
	Role = people.Role
	// Act is something that a visitor does.
	Act = people.Act
	// Visitor is who does something: a person, or a guest.
	Visitor = people.Visitor
	// Gate knows visitors.
	Gate = people.Gate
	// Guest is a visitor with one document.
	Guest = people.Guest
	// Forbidden is an act that a visitor may not do.
	Forbidden = people.Forbidden
	// BadPerson is what is wrong with the data of a person.
	BadPerson = people.BadPerson
	// Throttled: too many tries to sign in failed.
	Throttled = people.Throttled
	// Invite is a one-time address.
	Invite = people.Invite
	// Accepted is what somebody fills in there.
	Accepted = people.Accepted
	// SessionView is a session as lists show it.
	SessionView = people.SessionView
	// Choice is how a person left something on the screens.
	Choice = people.Choice
	// Record is a line of the record.
	Record = people.Record
	// RecordQuery asks for lines of it.
	RecordQuery = people.RecordQuery
	// House is what the house keeps, and for how long.
	House = people.House

	// Work is something that takes long and goes on in the background.
	Work = background.Work
	// Progress is a look at it.
	Progress = background.Progress

	// Setting is one of the office's settings.
	Setting = office.Setting
)

// The roles and acts there are, errors that are told apart, and what is asked without a desk.
const (
	Administrator = people.Administrator
	Member        = people.Member
	Reader        = people.Reader

	ActLook       = people.ActLook
	ActAdd        = people.ActAdd
	ActChange     = people.ActChange
	ActHandOut    = people.ActHandOut
	ActPurge      = people.ActPurge
	ActAdminister = people.ActAdminister

	FirstGuest  = people.FirstGuest
	InviteFirst = people.InviteFirst
	Longest     = people.Longest
	Idle        = people.Idle
	Remembered  = people.Remembered
	OfficeName  = office.OfficeName

	WorkRunning   = background.WorkRunning
	WorkDone      = background.WorkDone
	WorkFailed    = background.WorkFailed
	WorkCancelled = background.WorkCancelled
)

var (
	Roles = people.Roles
	Whats = people.Whats

	ErrMissing = store.ErrMissing
	ErrNobody  = people.ErrNobody
	ErrSignIn  = people.ErrSignIn
	ErrInvite  = people.ErrInvite

	NoSpace    = store.NoSpace
	From       = people.From
	FromSame   = people.FromSame
	WhatName   = people.WhatName
	OpenPeople = people.OpenPeople
)
