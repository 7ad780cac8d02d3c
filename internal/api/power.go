package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/verdict"
)

// GetPower implements the contract.
func (s *Server) GetPower(ctx context.Context, req contract.GetPowerRequestObject) (contract.GetPowerResponseObject, error) {
	out := contract.GetPower200JSONResponse{}
	want := text(req.Params.Site)
	s.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) {
		g := s.glance(e, ev, vs, now)
		for i := range e.Sites {
			if site := &e.Sites[i]; want == "" || want == string(site.Key) {
				out = append(out, g.sitePower(site))
			}
		}
	})
	if want != "" && len(out) == 0 {
		return nil, usage("there is no site %q: plumb board lists them", want)
	}
	for i := range out {
		for j := range out[i].Supplies {
			s.toDo(ctx, &out[i].Supplies[j])
		}
	}
	return out, nil
}

func (g glance) world() power.World { return power.World{Estate: g.e, Evidence: g.ev, Now: g.now} }

func (g glance) sitePower(site *estate.Site) contract.SitePower {
	w := g.world()
	out := contract.SitePower{
		Site: string(site.Key), Name: site.Name, Balance: []contract.FeedLoad{}, Elements: []contract.PowerElement{}, Hangers: []contract.Hanger{},
		Failovers: []contract.Failover{}, Supplies: []contract.SupplyBrief{}, Weaknesses: []contract.PowerWeakness{},
	}
	if watts, known := w.SiteW(site.Key); known {
		out.W = ptr(tenth(watts))
	}
	if there, volts, known := g.moment.Utility(site.Key); known {
		out.Utility, out.UtilityV = ptr(contract.Gone), &volts
		if there {
			out.Utility = ptr(contract.There)
		}
	}
	for feed, watts := range w.Balance(site.Key) {
		out.Balance = append(out.Balance, contract.FeedLoad{Feed: feed, W: tenth(watts)})
	}
	slices.SortFunc(out.Balance, func(a, b contract.FeedLoad) int { return cmp.Compare(a.Feed, b.Feed) })
	for _, x := range w.Elements(site.Key) {
		out.Elements = append(out.Elements, g.element(x))
		if x.Kind == power.Bank || x.Kind == power.Phase {
			continue
		}
		for _, h := range w.Hangers(x.Device) {
			out.Hangers = append(out.Hangers, g.hanger(h))
		}
		out.Failovers = append(out.Failovers, failoverView(w.IfLost(x.Device)))
	}
	for i := range g.e.Devices {
		if d := &g.e.Devices[i]; d.Site == site.Key && d.Supply != nil {
			out.Supplies = append(out.Supplies, g.supplyBrief(d))
		}
	}
	for _, x := range w.Weaknesses(site.Key) {
		out.Weaknesses = append(out.Weaknesses, contract.PowerWeakness{Device: string(x.Device), Name: x.Name, Text: x.Text, Remedy: x.Remedy})
	}
	return out
}

func (g glance) element(x power.Element) contract.PowerElement {
	d := g.e.Device(x.Device)
	out := contract.PowerElement{Device: string(x.Device), Kind: contract.PowerElementKind(x.Kind), Name: x.Name, Words: d.Words(), From: []string{}, W: tenthOf(x.W), A: hundredthOf(x.A)}
	for _, c := range d.Power {
		out.From = append(out.From, c.From.String())
	}
	if x.RatingW > 0 {
		out.RatingW = &x.RatingW
	}
	if x.RatingA > 0 {
		out.RatingA = &x.RatingA
	}
	if share, known := x.Share(); known {
		out.Share = &share
	}
	if watts, known := x.Headroom(d.Inlet.Voltage()); known {
		out.HeadroomW = ptr(tenth(watts))
	}
	if x.Breaker != nil {
		out.BreakerOpen = ptr(!*x.Breaker)
	}
	return out
}

func hundredthOf(v *float64) *float64 {
	if v == nil {
		return nil
	}
	return ptr(float64(int(*v*100+0.5)) / 100)
}

func (g glance) hanger(h power.Hanger) contract.Hanger {
	return contract.Hanger{Device: string(h.Device), Words: g.e.Device(h.Device).Words(), From: h.From.String(), Feed: h.Feed, W: tenthOf(h.W), On: h.On, Essential: h.Essential}
}

func failoverView(f power.Failover) contract.Failover {
	out := contract.Failover{Lost: string(f.Lost), Holds: f.Holds(), Dark: keys(f.Dark), Alone: keys(f.Alone), Unknown: keys(f.Unknown), Shifts: []contract.Shift{}}
	for _, s := range f.Shifts {
		v := contract.Shift{Device: string(s.Device), Name: s.Name, BeforeW: tenth(s.BeforeW), AfterW: tenth(s.AfterW), Over: s.Over}
		if s.RatingW > 0 {
			v.RatingW = ptr(s.RatingW)
		}
		out.Shifts = append(out.Shifts, v)
	}
	return out
}

// GetEnergy implements the contract.
func (s *Server) GetEnergy(ctx context.Context, req contract.GetEnergyRequestObject) (contract.GetEnergyResponseObject, error) {
	now := time.Now().UTC()
	from, to := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC), now
	if req.Params.From != nil {
		from = req.Params.From.UTC()
	}
	if req.Params.To != nil {
		to = req.Params.To.UTC()
	}
	if !from.Before(to) {
		return nil, usage("from must lie before to")
	}
	uses, err := s.Store.Uses(ctx, drawSeries, from, to)
	if err != nil {
		return nil, err
	}
	e := s.Keeper.Estate()
	out := contract.GetEnergy200JSONResponse{From: from, To: to, Devices: []contract.EnergyUse{}, Sites: []contract.EnergyUse{}}
	bySite := map[estate.Key]*contract.EnergyUse{}
	for i := range e.Devices {
		d := &e.Devices[i]
		u, ok := uses[d.Key]
		if !ok {
			continue
		}
		x := contract.EnergyUse{
			Key: string(d.Key), Kwh: float64(int(u.Integral/10+0.5)) / 100, MeanW: tenth(u.Mean), PeakW: tenth(u.Peak), Measured: min(1, u.Known.Hours()/to.Sub(from).Hours()),
		}
		out.Devices = append(out.Devices, x)
		if len(d.Power) == 0 || d.Power[0].From.Device != estate.Utility {
			continue
		}
		// What comes into a site is what hangs on the utility itself.
		sum := bySite[d.Site]
		if sum == nil {
			sum = &contract.EnergyUse{Key: string(d.Site), Measured: 1}
			bySite[d.Site] = sum
		}
		sum.Kwh, sum.MeanW, sum.PeakW, sum.Measured = sum.Kwh+x.Kwh, sum.MeanW+x.MeanW, sum.PeakW+x.PeakW, min(sum.Measured, x.Measured)
	}
	for i := range e.Sites {
		if sum := bySite[e.Sites[i].Key]; sum != nil {
			out.Sites = append(out.Sites, *sum)
		}
	}
	return out, nil
}

// gearText names what is asked of gear, in errors.
func device(s *Server, key string) (*estate.Device, error) {
	d := s.Keeper.Estate().Device(estate.Key(key))
	if d == nil {
		return nil, s.noDevice(key)
	}
	return d, nil
}

func short(d time.Duration) string { return fmt.Sprintf("%d s", int(d.Seconds())) }
