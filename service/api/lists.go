package api

import (
	"fmt"
	"slices"

	"patientheron/resource"
	"patientheron/service/store"
)

// Page says which part of a list is asked for. Every list of records takes it.
type Page struct {
	After int64 `query:"after" minimum:"0" doc:"The page begins after the record with this number, which the page before gave as 'next'"`
	Limit int   `query:"limit" minimum:"1" maximum:"500" default:"100" doc:"The most records on the page"`
}

// Listed is what every list tells beside its records.
type Listed struct {
	Total      int                   `json:"total" doc:"How many records there are in all"`
	Next       int64                 `json:"next,omitempty" doc:"The number to give as 'after' for the next page; absent on the last page"`
	Unreadable []resource.Unreadable `json:"unreadable,omitempty" doc:"Kept, but cannot be read"`
}

// paged gives the part of a list that is asked for. Numbers tell its records apart.
func paged[T any](all []T, unreadable []resource.Unreadable, p Page, number func(T) int64) ([]T, Listed, error) {
	l := Listed{Total: len(all), Unreadable: unreadable}
	if p.After > 0 {
		i := slices.IndexFunc(all, func(t T) bool { return number(t) == p.After })
		if i < 0 {
			return nil, l, fmt.Errorf("%w: the record %d, behind which the page begins, is gone; begin again with the first page", store.ErrChanged, p.After)
		}
		all, l.Unreadable = all[i+1:], nil
	}
	if len(all) > p.Limit {
		all = all[:p.Limit]
		l.Next = number(all[p.Limit-1])
	}
	return all, l, nil
}
