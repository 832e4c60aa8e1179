// Package web is what people see: the one list of stations and screens, given to the shell.
package web

import (
	"glenrain/desk"
	"glenrain/web/arrange"
	"glenrain/web/collect"
	"glenrain/web/documents"
	"glenrain/web/edit"
	"glenrain/web/furnish"
	"glenrain/web/handing"
	"glenrain/web/help"
	"glenrain/web/people"
	"glenrain/web/release"
	"glenrain/web/review"
	"glenrain/web/scanning"
	"glenrain/web/settings"
	"glenrain/web/shell"
	"glenrain/web/station"
)

// Stations are those that work so far, in the order people work.
func Stations() []station.Station {
	return []station.Station{collect.Station(scanning.Lent()), arrange.Station(), edit.Station(), furnish.Station(), review.Station(), release.Station()}
}

// Screens are those besides the desk.
func Screens() []station.Screen {
	return []station.Screen{documents.Screen(), handing.Screen(), people.Screen(), scanning.Screen(), settings.Screen(), help.Screen()}
}

// Options say how the pages are served.
type Options = shell.Options

// New prepares the pages of d; stations and screens that opt names come instead of the house's own.
func New(d *desk.Desk, opt Options) (*shell.Server, error) {
	if opt.Stations == nil {
		opt.Stations = Stations()
	}
	if opt.Screens == nil {
		opt.Screens, opt.Home = Screens(), documents.Home
	}
	return shell.New(d, opt)
}
