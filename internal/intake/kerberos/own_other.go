//go:build !windows

package kerberos

import "errors"

// Elsewhere one's own sign-in is the cache of tickets.
func (o *Options) own() bool { return false }

func own() (Identity, error) { return nil, errors.New("only Windows has a sign-in of its own") }
