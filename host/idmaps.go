package host

import (
	"errors"
	"io/fs"
	"path"
	"strconv"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// readIDMaps finds out which ids of the host those inside containers are, for an engine without root: its own
// user, who owns its socket, is root inside, and the others are those that the user was given (subuid(5),
// subgid(5)).
func readIDMaps(from hostconn.Files, s *survey.Survey, socket, subuid, subgid string) {
	if socket == "" || from == nil {
		s.Unknown["uid-map"] = "the engine runs without root, and its socket does not show as whom"
		return
	}
	owner, err := from.Stat(socket)
	if err != nil {
		s.Unknown["uid-map"] = "the engine runs without root, and its socket does not show as whom"
		return
	}
	gid := owner.GID
	account, known := s.AccountOf(owner.UID)
	if known {
		gid = account.GID
	}
	s.Engine.UIDMap = idMap(owner.UID, subIDs(from, subuid, account.Name, owner.UID))
	s.Engine.GIDMap = idMap(gid, subIDs(from, subgid, account.Name, owner.UID))
}

// subIDs returns the stretches that a file gives a user, by name or by uid: the first id of each, and how many.
func subIDs(from hostconn.Files, file, name string, uid survey.ID) [][2]survey.ID {
	var all [][2]survey.ID
	eachLine(from, file, 3, func(f []string) {
		start, err := idOf(f[1])
		count, err2 := idOf(f[2])
		if err == nil && err2 == nil && (f[0] == name && name != "" || f[0] == strconv.FormatInt(uid, 10)) {
			all = append(all, [2]survey.ID{start, count})
		}
	})
	return all
}

// idMap puts the user first, and the stretches one after the other.
func idMap(own survey.ID, given [][2]survey.ID) []survey.IDMap {
	maps := []survey.IDMap{{Inside: 0, Host: own, Count: 1}}
	inside := survey.ID(1)
	for _, g := range given {
		maps = append(maps, survey.IDMap{Inside: inside, Host: g[0], Count: g[1]})
		inside += g[1]
	}
	return maps
}

// readLinger finds out whether the processes of the engine's user outlive the last login (loginctl(1), enable-linger):
// only systemd ends them.
func readLinger(from hostconn.Files, s *survey.Survey, systemd, lingers string) {
	if from == nil {
		return
	}
	own, known := survey.HostID(s.Engine.UIDMap, 0)
	account, found := s.AccountOf(own)
	if !known || !found {
		return
	}
	s.Engine.User = account.Name
	if _, err := from.Stat(systemd); err != nil {
		return
	}
	_, err := from.Stat(path.Join(lingers, account.Name))
	on := err == nil
	if on || errors.Is(err, fs.ErrNotExist) {
		s.Engine.Linger = &on
	}
}
