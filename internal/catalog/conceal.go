package catalog

import (
	"cmp"
	"encoding/json"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
)

const (
	// leastConcealed is the length of a text below which it is no secret that could be found again.
	leastConcealed = 4
	// mostConcealed is the number of objects whose secrets are known; the oldest one is forgotten.
	mostConcealed = 10_000
)

// concealed are the texts that must not be shown, by the objects that they were opened for.
type concealed struct {
	mu      sync.RWMutex
	objects []string // in the order in which they came
	of      map[string][]hidden
}

// hidden is a text, and what stands for it where people read.
type hidden struct{ text, label string }

// note takes the secrets of an object in the place of those that it had.
func (c *concealed) note(object string, found []hidden) {
	var all []hidden
	for _, one := range found {
		if len(one.text) < leastConcealed {
			continue
		}
		for _, form := range waysToWrite(one.text) {
			if !slices.ContainsFunc(all, func(h hidden) bool { return h.text == form }) {
				all = append(all, hidden{form, one.label})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b hidden) int { return cmp.Compare(len(b.text), len(a.text)) })
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil {
		c.of = make(map[string][]hidden)
	}
	if _, known := c.of[object]; !known {
		if c.objects = append(c.objects, object); len(c.objects) > mostConcealed {
			delete(c.of, c.objects[0])
			c.objects = c.objects[1:]
		}
	}
	c.of[object] = all
}

// waysToWrite are a text and how it may stand in an address, or between quotes.
func waysToWrite(text string) []string {
	quoted := strconv.Quote(text)
	encoded, _ := json.Marshal(text) // a text always is
	return []string{text, url.PathEscape(text), url.QueryEscape(text), (&url.URL{Path: text}).EscapedPath(), quoted[1 : len(quoted)-1], string(encoded[1 : len(encoded)-1])}
}

// Conceal is a text for people without what references and sealed texts of definitions stand for:
// errors of libraries repeat addresses, headers and the like.
func (k *Keeper) Conceal(text string) string {
	k.hidden.mu.RLock()
	defer k.hidden.mu.RUnlock()
	for _, of := range k.hidden.of {
		for _, one := range of {
			if strings.Contains(text, one.text) {
				text = strings.ReplaceAll(text, one.text, one.label)
			}
		}
	}
	return text
}
