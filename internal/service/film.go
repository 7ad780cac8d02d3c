package service

import (
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// deaths are the states behind which it is worth knowing what the screen of a device showed.
var deaths = map[verdict.State]bool{verdict.Hung: true, verdict.Silent: true, verdict.Dark: true}

// keepFilms has what the screens of watched devices showed be kept once they have fallen silent.
// was is owned by the bus, which tells of one thing after the other.
func (s *Service) keepFilms() func([]estate.Key) {
	was := map[estate.Key]verdict.State{}
	return func(keys []estate.Key) {
		e := s.keeper.Estate()
		for _, k := range keys {
			d := e.Device(k)
			if d == nil || !e.Watched(d) {
				delete(was, k)
				continue
			}
			is := s.keeper.Verdict(k).State
			if deaths[is] && !deaths[was[k]] && was[k] != "" {
				s.broker.KeepFilm(k, "it was "+string(is))
			}
			was[k] = is
		}
	}
}
