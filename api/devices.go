package api

import (
	"fmt"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vergekeep/api/gen"
	"vergekeep/archive"
	"vergekeep/core/selector"
	"vergekeep/service/fleet"
	"vergekeep/service/imports"
	"vergekeep/service/rounds"
	"vergekeep/service/texts"
	"vergekeep/wire/ssh"
)

// answer is the end of a handler: what came of it, or why not.
func answer[T any](s *server, c *gin.Context, status int, v T, err error) {
	switch {
	case err != nil:
		s.fail(c, err)
	case status == http.StatusNoContent:
		c.Status(status)
	default:
		c.JSON(status, v)
	}
}

// done is answer without anything to show.
func (s *server) done(c *gin.Context, err error) { answer(s, c, http.StatusNoContent, 0, err) }

// ListDevices implements listDevices.
func (s *server) ListDevices(c *gin.Context, params gen.ListDevicesParams) {
	sel, err := selector.Parse(value(params.Selector))
	if err != nil {
		s.fail(c, err)
		return
	}
	after, err := readCursor(params.Cursor)
	if err != nil {
		badCursor(c)
		return
	}
	list, err := s.Fleet.List(c, sel)
	if err != nil {
		s.fail(c, err)
		return
	}
	total := len(list)
	if after != "" {
		key := strings.ToLower(after)
		at := sort.Search(len(list), func(i int) bool { return strings.ToLower(list[i].Name) > key })
		list = list[at:]
	}
	list, next := upTo(list, limit(params.Limit), func(d *fleet.Device) string { return d.Name })
	c.JSON(http.StatusOK, gen.DevicePage{Items: each(list, apiDevice), Total: total, Next: link(c, next)})
}

// AddDevice implements addDevice.
func (s *server) AddDevice(c *gin.Context) {
	in, ok := body[gen.NewDevice](s, c)
	if !ok {
		return
	}
	d := fleet.Device{
		Name: in.Name, Platform: in.Platform, Addresses: fleet.SplitAddresses(in.Address), Site: value(in.Site), Role: value(in.Role), Labels: value(in.Labels),
		Transport: fleet.Transport(value(in.Transport)), Via: value(in.Via), OldAlgorithms: value(in.OldAlgorithms), Patience: value(in.Patience), Pair: value(in.Pair), Zone: value(in.Zone),
	}
	d.Nameplate.Serial = value(in.Serial)
	d, err := s.Fleet.Add(c, d, caller(c).Name)
	answer(s, c, http.StatusCreated, apiDevice(d), err)
}

func etag(d fleet.Device) string { return fmt.Sprintf(`"%d-%d"`, d.ID, d.Edition) }

// GetDevice implements getDevice.
func (s *server) GetDevice(c *gin.Context, name gen.Name) {
	d, ok := s.device(c, name)
	if !ok {
		return
	}
	out, err := s.deviceDetail(c, d)
	if err == nil {
		c.Header("ETag", etag(d))
	}
	answer(s, c, http.StatusOK, out, err)
}

func (s *server) deviceDetail(c *gin.Context, d fleet.Device) (gen.DeviceDetail, error) {
	out := gen.DeviceDetail{Device: apiDevice(d), SameSerial: []string{}}
	newest, err := s.Archive.Newest(c, d.ID)
	if err != nil {
		return out, err
	}
	out.Configurations = apiRevisions(d.Name, newest)
	if out.Unsaved, err = s.unsaved(c, d, newest); err != nil {
		return out, err
	}
	reaching, err := s.Rounds.Reaching(c, &d)
	if err != nil {
		return out, err
	}
	out.Schedules = each(reaching, s.apiSchedule)
	plates, err := s.Rounds.Nameplates(c, d.ID)
	if err != nil {
		return out, err
	}
	out.Nameplates = each(plates, func(p rounds.Plate) gen.Nameplate {
		return gen.Nameplate{Since: p.Since, Name: some(p.Name), Serial: some(p.Serial), Model: some(p.Model), Version: some(p.Version)}
	})
	if d.Nameplate.Serial != "" {
		all, err := s.Fleet.List(c, selector.Selector{})
		if err != nil {
			return out, err
		}
		for _, o := range all {
			if o.ID != d.ID && o.Nameplate.Serial == d.Nameplate.Serial && o.State != fleet.Retired && o.Box() != d.Box() {
				out.SameSerial = append(out.SameSerial, o.Name)
			}
		}
	}
	return out, nil
}

// unsaved counts what would be lost at a restart: running against startup.
func (s *server) unsaved(c *gin.Context, d fleet.Device, newest []archive.Revision) (*gen.Stats, error) {
	for _, r := range newest {
		if r.Datastore != "startup" {
			continue
		}
		cmp, err := s.Texts.Compare(c, texts.Request{Left: texts.Source{Ref: `"` + d.Name + `":startup`}, Right: texts.Source{Ref: `"` + d.Name + `"`}}, texts.Caller{Location: time.UTC, SeeSecrets: true})
		if err != nil {
			return nil, err
		}
		stats := apiStats(cmp.Result.Stats)
		return &stats, nil
	}
	return nil, nil
}

// EditDevice implements editDevice.
func (s *server) EditDevice(c *gin.Context, name gen.Name, params gen.EditDeviceParams) {
	in, ok := body[gen.DeviceEdit](s, c)
	if !ok {
		return
	}
	edition := int64(0)
	if match := value(params.IfMatch); match != "" && match != "*" {
		if _, err := fmt.Sscanf(match, `"%d-%d"`, new(int64), &edition); err != nil {
			problem(c, http.StatusPreconditionFailed, "Somebody else has edited this record.", "If-Match holds no ETag of this record.")
			return
		}
	}
	d, err := s.Fleet.Edit(c, name, edition, fleet.Change{
		Name: in.Name, Site: in.Site, Role: in.Role, Platform: in.Platform, Address: in.Address, Labels: in.Labels, State: (*string)(in.State),
		Transport: (*string)(in.Transport), Via: in.Via, OldAlgorithms: in.OldAlgorithms, Patience: in.Patience, Pair: in.Pair, Zone: in.Zone,
	}, caller(c).Name)
	if err == nil {
		c.Header("ETag", etag(d))
	}
	answer(s, c, http.StatusOK, apiDevice(d), err)
}

// ReplaceDevice implements replaceDevice.
func (s *server) ReplaceDevice(c *gin.Context, name gen.Name) {
	in, ok := body[gen.Replacement](s, c)
	if !ok {
		return
	}
	d, err := s.Fleet.Replace(c, name, value(in.Serial), in.Why, caller(c).Name)
	answer(s, c, http.StatusOK, apiDevice(d), err)
}

// TryLogin implements tryLogin.
func (s *server) TryLogin(c *gin.Context, name gen.Name) {
	d, ok := s.device(c, name)
	if !ok {
		return
	}
	r, err := s.Rounds.TryLogin(c, d)
	out := gen.LoginResult{Device: r.Device, Credential: r.Credential, Address: some(r.Address), OldInUse: some(strings.Join(r.Old, ", ")), TookMs: float32(r.Took.Microseconds()) / 1000}
	if r.HostKey != "" {
		out.HostKey = some(ssh.Fingerprint(r.HostKey))
	}
	answer(s, c, http.StatusOK, out, err)
}

// AcceptHostKeys implements acceptHostKeys.
func (s *server) AcceptHostKeys(c *gin.Context) {
	in, ok := body[gen.KeyAcceptance](s, c)
	if !ok {
		return
	}
	list, err := s.Fleet.Trust(c, in.Selector, in.Why, value(in.Add), caller(c).Name)
	answer(s, c, http.StatusOK, each(list, apiDevice), err)
}

// ImportDevices implements importDevices.
func (s *server) ImportDevices(c *gin.Context) {
	in, ok := body[gen.Import](s, c)
	if !ok {
		return
	}
	dry := value(in.DryRun)
	lines, err := s.Fleet.Take(c, fleet.Import{Text: in.Text, Format: fleet.Format(value(in.Format)), Change: value(in.Change), DryRun: dry}, caller(c).Name)
	answer(s, c, http.StatusOK, apiImport(lines, !dry), err)
}

func apiImport(lines []fleet.Line, applied bool) gen.ImportReport {
	out := gen.ImportReport{Applied: applied, Lines: each(lines, func(l fleet.Line) gen.ImportLine {
		return gen.ImportLine{Line: l.Line, Name: l.Name, Fate: gen.ImportLineFate(l.Fate), What: some(l.What)}
	})}
	counts := map[fleet.Fate]*int{fleet.FateAdd: &out.Added, fleet.FateChange: &out.Changed, fleet.FateUnchanged: &out.Unchanged, fleet.FateRefuse: &out.Refused, fleet.FatePause: &out.Paused}
	for _, l := range lines {
		*counts[l.Fate]++
	}
	return out
}

// Enrol implements enrol.
func (s *server) Enrol(c *gin.Context) {
	in, ok := body[gen.Enrolment](s, c)
	if !ok {
		return
	}
	list, err := s.Rounds.Enrol(c, rounds.Enrolment{
		Addresses: in.Addresses, Site: value(in.Site), Role: value(in.Role), Via: value(in.Via), Telnet: value(in.Telnet), PerSecond: value(in.PerSecond), Add: value(in.Add),
		Ports: value(in.Ports), SNMPPort: value(in.SnmpPort),
	}, caller(c).Name)
	answer(s, c, http.StatusOK, each(list, func(r rounds.Recognised) gen.Enrolled {
		out := gen.Enrolled{
			Address: r.Address, Recognised: r.Platform != "", Platform: some(r.Platform), Sure: r.Sure, Name: some(r.Nameplate.Name), Serial: some(r.Nameplate.Serial),
			Model: some(r.Nameplate.Model), Version: some(r.Nameplate.Version), Transport: some(string(r.Transport)), Added: some(r.Added),
		}
		if r.HostKey != "" {
			out.HostKey = some(ssh.Fingerprint(r.HostKey))
		}
		if len(r.Because) > 0 {
			out.Because = &r.Because
		}
		if r.Err != nil {
			out.Reason, out.What, out.Advice = some(string(r.Err.Code)), some(r.Err.What), some(r.Err.Code.Advice())
		}
		return out
	}), err)
}

func apiGroup(g fleet.Group) gen.Group {
	return gen.Group{Name: g.Name, Selector: g.Selector, Description: g.Description, Devices: g.Devices}
}

// ListGroups implements listGroups.
func (s *server) ListGroups(c *gin.Context) {
	list, err := s.Fleet.Groups(c)
	answer(s, c, http.StatusOK, each(list, apiGroup), err)
}

// SetGroup implements setGroup.
func (s *server) SetGroup(c *gin.Context, name gen.Name) {
	in, ok := body[gen.NewGroup](s, c)
	if !ok {
		return
	}
	if err := s.Fleet.SetGroup(c, fleet.Group{Name: name, Selector: in.Selector, Description: value(in.Description)}, caller(c).Name); err != nil {
		s.fail(c, err)
		return
	}
	list, err := s.Fleet.Groups(c)
	at := max(0, slices.IndexFunc(list, func(g fleet.Group) bool { return strings.EqualFold(g.Name, name) }))
	answer(s, c, http.StatusOK, apiGroup(list[at]), err)
}

// DeleteGroup implements deleteGroup.
func (s *server) DeleteGroup(c *gin.Context, name gen.Name) {
	s.done(c, s.Fleet.DeleteGroup(c, name, caller(c).Name))
}

func apiSite(v fleet.Site) gen.Site {
	closed := v.Closed
	if closed == nil {
		closed = []string{}
	}
	return gen.Site{Name: v.Name, AtOnce: v.AtOnce, Closed: closed, Zone: v.Zone, Devices: v.Devices}
}

// ListSites implements listSites.
func (s *server) ListSites(c *gin.Context) {
	list, err := s.Fleet.Sites(c)
	answer(s, c, http.StatusOK, each(list, apiSite), err)
}

// SetSite implements setSite.
func (s *server) SetSite(c *gin.Context, name gen.Name) {
	in, ok := body[gen.NewSite](s, c)
	if !ok {
		return
	}
	site := fleet.Site{Name: name, AtOnce: value(in.AtOnce), Closed: value(in.Closed), Zone: value(in.Zone)}
	err := s.Fleet.SetSite(c, site, caller(c).Name)
	answer(s, c, http.StatusOK, apiSite(site), err)
}

func apiJump(j fleet.Jump) gen.JumpHost {
	return gen.JumpHost{Name: j.Name, Address: j.Address, Via: some(j.Via), Credential: j.Credential, AtOnce: j.AtOnce, HostKeys: each(j.HostKeys, ssh.Fingerprint)}
}

// ListJumpHosts implements listJumpHosts.
func (s *server) ListJumpHosts(c *gin.Context) {
	list, err := s.Fleet.Jumps(c)
	answer(s, c, http.StatusOK, each(list, apiJump), err)
}

// SetJumpHost implements setJumpHost.
func (s *server) SetJumpHost(c *gin.Context, name gen.Name) {
	in, ok := body[gen.NewJumpHost](s, c)
	if !ok {
		return
	}
	if _, err := s.Vault.Get(c, in.Credential); err != nil {
		s.fail(c, err)
		return
	}
	if err := s.Fleet.SetJump(c, fleet.Jump{Name: name, Address: in.Address, Via: value(in.Via), Credential: in.Credential, AtOnce: value(in.AtOnce)}, caller(c).Name); err != nil {
		s.fail(c, err)
		return
	}
	chain, err := s.Fleet.Chain(c, name)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, apiJump(chain[len(chain)-1]))
}

// DeleteJumpHost implements deleteJumpHost.
func (s *server) DeleteJumpHost(c *gin.Context, name gen.Name) {
	s.done(c, s.Fleet.DeleteJump(c, name, caller(c).Name))
}

// TrustJumpHost implements trustJumpHost.
func (s *server) TrustJumpHost(c *gin.Context, name gen.Name) {
	in, ok := body[gen.Why](s, c)
	if !ok {
		return
	}
	s.done(c, s.Fleet.ForgetJumpKeys(c, name, in.Why, caller(c).Name))
}

func apiSteady(i imports.Import) gen.SteadyImport {
	return gen.SteadyImport{Name: i.Name, From: i.Source, Expression: i.Expression, Zone: i.Zone, LastRun: moment(i.LastRun), LastSaid: some(i.LastSaid), LastFailed: some(i.LastFailed)}
}

// ListImports implements listImports.
func (s *server) ListImports(c *gin.Context) {
	list, err := s.Imports.List(c)
	answer(s, c, http.StatusOK, each(list, apiSteady), err)
}

// SetImport implements setImport.
func (s *server) SetImport(c *gin.Context, name gen.Name) {
	in, ok := body[gen.NewSteadyImport](s, c)
	if !ok {
		return
	}
	i, err := s.Imports.Set(c, imports.Import{Name: name, Source: in.From, Expression: value(in.Expression), Zone: value(in.Zone)}, caller(c).Name)
	answer(s, c, http.StatusOK, apiSteady(i), err)
}

// DeleteImport implements deleteImport.
func (s *server) DeleteImport(c *gin.Context, name gen.Name) {
	s.done(c, s.Imports.Delete(c, name, caller(c).Name))
}

// RunImport implements runImport.
func (s *server) RunImport(c *gin.Context, name gen.Name, params gen.RunImportParams) {
	preview := value(params.Preview)
	lines, err := s.Imports.Run(c, name, preview, caller(c).Name)
	answer(s, c, http.StatusOK, apiImport(lines, !preview), err)
}

// GetFreshness implements getFreshness.
func (s *server) GetFreshness(c *gin.Context, params gen.GetFreshnessParams) {
	sel, err := selector.Parse(value(params.Selector))
	if err != nil {
		s.fail(c, err)
		return
	}
	list, err := s.Fleet.List(c, sel)
	if err != nil {
		s.fail(c, err)
		return
	}
	history, err := s.Rounds.FreshnessHistory(c, time.Now().AddDate(0, 0, -60))
	answer(s, c, http.StatusOK, apiFreshness(list, history), err)
}

func apiCounts(f rounds.Freshness) gen.FreshnessCounts {
	return gen.FreshnessCounts{Fresh: f.Fresh, Late: f.Late, Stale: f.Stale, None: f.None}
}

func apiFreshness(list []fleet.Device, history []rounds.Freshness) gen.FreshnessReport {
	out := gen.FreshnessReport{Sites: []gen.SiteFreshness{}, Problems: []gen.ProblemCount{}}
	out.History = each(history, func(f rounds.Freshness) gen.FreshnessDay { return gen.FreshnessDay{At: f.At, Counts: apiCounts(f)} })
	var all rounds.Freshness
	sites, problems := map[string]*rounds.Freshness{}, map[string]*gen.ProblemCount{}
	slices.SortStableFunc(list, func(x, y fleet.Device) int { return x.ProblemSince.Compare(y.ProblemSince) })
	for i := range list {
		d := &list[i]
		if d.State != fleet.Active {
			if d.State == fleet.Paused {
				out.Paused++
			}
			continue
		}
		all.Count(d)
		if sites[d.Site] == nil {
			sites[d.Site] = &rounds.Freshness{}
		}
		sites[d.Site].Count(d)
		if d.Problem == "" {
			continue
		}
		p := problems[string(d.Problem)]
		if p == nil {
			p = &gen.ProblemCount{Reason: string(d.Problem), Advice: d.Problem.Advice(), Sites: []string{}, Names: []string{}, Since: d.ProblemSince}
			problems[string(d.Problem)] = p
		}
		if p.Devices++; len(p.Names) < 5 {
			p.Names = append(p.Names, d.Name)
		}
		if d.Site != "" && !slices.Contains(p.Sites, d.Site) {
			p.Sites = append(p.Sites, d.Site)
		}
	}
	out.Counts = apiCounts(all)
	for name, f := range sites {
		out.Sites = append(out.Sites, gen.SiteFreshness{Site: name, Counts: apiCounts(*f)})
	}
	sort.Slice(out.Sites, func(i, j int) bool { return out.Sites[i].Site < out.Sites[j].Site })
	for _, p := range problems {
		out.Problems = append(out.Problems, *p)
	}
	sort.Slice(out.Problems, func(i, j int) bool {
		a, b := out.Problems[i], out.Problems[j]
		if a.Devices != b.Devices {
			return a.Devices > b.Devices
		}
		if x, y := a.Since.Truncate(time.Minute), b.Since.Truncate(time.Minute); !x.Equal(y) {
			return x.Before(y)
		}
		return a.Reason < b.Reason
	})
	return out
}

// TryDialect implements tryDialect.
func (s *server) TryDialect(c *gin.Context) {
	in, ok := body[gen.DialectTrial](s, c)
	if !ok {
		return
	}
	d, ok := s.device(c, in.Device)
	if !ok {
		return
	}
	t, err := s.Rounds.Try(c, d, in.Text, value(in.Record))
	out := gen.DialectResult{
		Steps: each(t.Steps, apiStep), Recording: some(t.Recording), Name: some(t.Nameplate.Name), Model: some(t.Nameplate.Model), Serial: some(t.Nameplate.Serial), Version: some(t.Nameplate.Version),
		TookMs: float32(t.Took.Microseconds()) / 1000,
		Captures: each(t.Captures, func(x rounds.Tried) gen.TriedCapture {
			return gen.TriedCapture{Name: x.Name(), Lines: x.Lines, Sections: x.Sections, SecretLines: x.SecretLines, VolatileLines: x.VolatileLines}
		}),
	}
	if t.Err != nil {
		out.Reason, out.What, out.Advice = some(string(t.Err.Code)), some(t.Err.What), some(t.Err.Code.Advice())
	}
	answer(s, c, http.StatusOK, out, err)
}
