package state

import (
	"maps"
	"slices"

	"ironledger.example/core/directory"
	"ironledger.example/core/value"
	"ironledger.example/internal/house"
)

// What a snapshot has of the house.
type (
	People      = house.People
	Roster      = house.Roster
	RosterEntry = house.RosterEntry
)

const rosterDocument = "roster"

// ReplacePeople makes people of the directory as given, nil for those who leave: what
// they were is kept, and their devices are appraised again.
func (c *Change) ReplacePeople(puts map[string]*directory.Person, by Cause) error {
	was, next := houseUndo[directory.Person]{}, c.Base.People.With(puts)
	var put []directory.Person
	var left []string
	persons := slices.Sorted(maps.Keys(puts))
	for _, id := range persons {
		was[id] = nil
		if old, known := c.Base.People.Get(id); known {
			was[id] = &old
		}
		if puts[id] == nil {
			left = append(left, id)
		} else {
			put = append(put, *puts[id])
		}
	}
	if err := c.Batch.PutPeople(put); err != nil {
		return err
	}
	c.Batch.DropPeople(left)
	c.Batch.PutPeoplePast(next.Revision, c.Now, string(value.JSON(was)))
	c.rebuild(c.Base.Book.renewed(), next, c.Base.Roster, by, c.Base.Fleet.those(c.Base.Fleet.OwnedBy(persons)))
	c.House.Persons = persons
	return nil
}

// OwnedBy lists the devices of which somebody says that they are one of the persons': those that may stand otherwise
// when the directory says something else of these.
func (f *Fleet) OwnedBy(persons []string) (devices []string) {
	for _, id := range persons {
		devices = append(devices, f.owners.Devices(id)...)
	}
	return devices
}

// ReplaceRoster makes entries of the roster as given, nil for those that are taken
// off: what they were is kept, and the devices that they speak of are appraised again.
func (c *Change) ReplaceRoster(puts map[string]*RosterEntry, by Cause) error {
	was, next := houseUndo[RosterEntry]{}, c.Base.Roster.With(puts)
	for id, e := range puts {
		was[id] = c.Base.Roster.Get(id)
		if e == nil {
			c.Batch.DropDocument(rosterDocument, id)
		} else if err := c.Batch.PutDocument(rosterDocument, id, e); err != nil {
			return err
		}
	}
	c.Batch.PutRosterPast(next.Revision, c.Now, string(value.JSON(was)))
	devices := c.Base.Roster.DevicesOf(maps.Keys(puts), next, c.Base.Fleet.Find)
	c.rebuild(c.Base.Book.renewed(), c.Base.People, next, by, c.Base.Fleet.those(devices))
	return nil
}
