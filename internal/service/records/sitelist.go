package records

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// SiteRow is a site as lists show it. None of the documents of a site is read for it.
type SiteRow struct {
	ID        int64
	Name      string
	Title     string
	Client    string
	Host      string
	Starter   string
	Release   string
	Install   string
	Address   string
	Bytes     int64
	MadeAt    time.Time
	RunID     int64
	Held      bool
	Visible   bool
	RetiredAt *time.Time
	CheckedAt *time.Time
	Passed    int
	Warned    int
	Failed    int
	Accepted  int        // of those that warn
	Behind    int        // releases of its starter that are newer
	Tasks     int        // launch tasks to do
	Picture   string     // file of the screenshot of its first page; "" where none was taken
	SeenAt    *time.Time // when that was
	Ends      *time.Time // when its certificate does
	Leads     *bool      // whether its name leads to its host; nil where that is not watched
}

// SiteFilter says which sites are listed, and how. What is empty filters nothing.
type SiteFilter struct {
	Retired bool
	State   string // a key of States
	Client  string
	Host    string
	Starter string
	Install string
	Find    string // a part of name, title, address or client, in any case
	Sort    string // a key of siteSorts
	Cursor  string // where the page before has ended
	Limit   int
}

// ErrCursor says that a cursor is none that this interface has given.
var ErrCursor = errors.New("the cursor is not one of this list; begin with its first page")

// States are conditions on a row that sites are chosen by.
var States = map[string]string{
	"attention": "(failed > 0 OR warned > accepted OR checked_at IS NULL OR NOT leads)",
	"failed":    "failed > 0",
	"warned":    "failed = 0 AND warned > accepted",
	"passed":    "failed = 0 AND warned <= accepted AND checked_at IS NOT NULL",
	"unchecked": "checked_at IS NULL",
	"held":      "held",
	"behind":    "behind > 0",
	"to-do":     "tasks > 0",
	"elsewhere": "NOT leads",
	"ending":    "ends < now() + interval '21 days'",
	"uncopied": "visible AND NOT held AND made_at < now() - interval '30 days' AND " +
		"(copied_at IS NULL OR copied_at < now() - interval '30 days')",
	"leading": "leads AND lead_since > now() - interval '7 days'",
}

// siteSorts are expressions on a row, each with its type, that lists are ordered by, upwards; then come name and number.
var siteSorts = map[string][2]string{
	"name":      {"name", "text"},
	"title":     {"lower(title)", "text"},
	"attention": {"-(failed * 1000 + GREATEST(warned - accepted, 0) + CASE WHEN checked_at IS NULL THEN 500 ELSE 0 END)", "integer"},
	"newest":    {"-extract(epoch FROM made_at)", "numeric"},
	"size":      {"-bytes", "bigint"},
	"checked":   {"-extract(epoch FROM COALESCE(checked_at, '-infinity'))", "numeric"},
	"ending":    {"extract(epoch FROM COALESCE(ends, 'infinity'))", "numeric"},
	"retired":   {"-extract(epoch FROM COALESCE(retired_at, '-infinity'))", "numeric"},
}

// siteRows are the sites that a filter lets through; what is counted of other tables is counted once for all of them.
const siteRows = `WITH listed AS (
	SELECT s.id, s.name, s.title, c.name AS client, h.name AS host, t.name AS starter, t.name || '@' || r.number AS release,
		COALESCE(i.name, '') AS install, s.address, s.bytes, s.made_at, s.run_id, s.held, s.visible, s.retired_at,
		s.checked_at::timestamptz AS checked_at, s.passed, s.warned + s.accepted_faults AS warned,
		s.failed - s.accepted_faults AS failed, s.accepted + s.accepted_faults AS accepted,
		r.behind, COALESCE(o.tasks, 0) AS tasks,
		COALESCE(s.side_by_side->'pages'->0->>'right', '') AS picture, (s.side_by_side->>'at')::timestamptz AS seen_at,
		(s.lead->>'there')::boolean AS leads, (s.lead->>'since')::timestamptz AS lead_since,
		s.certificate_ends::timestamptz AS ends, k.copied_at
	FROM sites s JOIN clients c ON c.id = s.client_id JOIN hosts h ON h.id = s.host_id
		JOIN (SELECT id, starter_id, number, (count(*) OVER (PARTITION BY starter_id ORDER BY number DESC) - 1)::int AS behind FROM releases) r
			ON r.id = s.release_id
		JOIN starters t ON t.id = r.starter_id LEFT JOIN install_codes ic ON ic.id = s.code_id LEFT JOIN installs i ON i.id = ic.install_id
		LEFT JOIN (SELECT site_id, count(*)::int AS tasks FROM launch_tasks WHERE done_at IS NULL GROUP BY 1) o ON o.site_id = s.id
		LEFT JOIN (SELECT site_id, max(made_at) AS copied_at FROM site_copies GROUP BY 1) k ON k.site_id = s.id
	WHERE (s.retired_at IS NOT NULL) = @retired AND (@client = '' OR c.name = @client) AND (@host = '' OR h.name = @host)
		AND (@starter = '' OR t.name = @starter) AND (@install = '' OR i.name = @install)
		AND (@find = '' OR s.name ILIKE @find OR s.title ILIKE @find OR s.address ILIKE @find OR c.name ILIKE @find)`

const siteRowColumns = "id, name, title, client, host, starter, release, install, address, bytes, made_at, run_id, held, visible, " +
	"retired_at, checked_at, passed, warned, failed, accepted, behind, tasks, picture, seen_at, ends, leads"

func (f SiteFilter) args() pgx.NamedArgs {
	return pgx.NamedArgs{"retired": f.Retired, "client": f.Client, "host": f.Host, "starter": f.Starter, "install": f.Install,
		"find": part(f.Find), "limit": f.Limit + 1}
}

// part is a pattern for texts with a part, whatever signs that has.
func part(text string) string {
	if text == "" {
		return ""
	}
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
}

// cursor is the end of a page: what the last row is sorted by, its name and its number.
type cursor struct {
	Key  string
	Name string
	ID   int64
}

func (c cursor) String() string {
	text, _ := json.Marshal(c) // texts and a number
	return base64.RawURLEncoding.EncodeToString(text)
}

func parseCursor(text string) (c cursor, err error) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(raw, &c)
	}
	if err != nil {
		err = ErrCursor
	}
	return c, err
}

// SiteRows returns a page of the sites that a filter lets through, and the cursor of the page behind it, or "". Errors: ErrCursor.
func (db *DB) SiteRows(ctx context.Context, f SiteFilter) (rows []SiteRow, next string, err error) {
	sort, known := siteSorts[f.Sort]
	if !known {
		sort = siteSorts["name"]
	}
	where, args := "true", f.args()
	if state, known := States[f.State]; known {
		where = state
	}
	if f.Cursor != "" {
		c, err := parseCursor(f.Cursor)
		if err != nil {
			return nil, "", err
		}
		where += fmt.Sprintf(" AND (%s, name, id) > (@key::text::%s, @name, @id)", sort[0], sort[1])
		args["key"], args["name"], args["id"] = c.Key, c.Name, c.ID
	}
	// Which sites they are comes first: all of the others is read of those alone.
	order, err := many[cursor](ctx, db, siteRows+") SELECT ("+sort[0]+")::text AS key, name, id FROM listed WHERE "+where+
		" ORDER BY "+sort[0]+", name, id LIMIT @limit", args)
	if err != nil || len(order) == 0 {
		return nil, "", explainCursor(err)
	}
	if len(order) > f.Limit {
		order = order[:f.Limit]
		next = order[f.Limit-1].String()
	}
	ids := make([]int64, len(order))
	for i, o := range order {
		ids[i] = o.ID
	}
	rows, err = db.rowsOf(ctx, f, ids)
	return rows, next, err
}

// rowsOf returns those of some sites that a filter lets through, in the order of their ids.
func (db *DB) rowsOf(ctx context.Context, f SiteFilter, ids []int64) ([]SiteRow, error) {
	args := f.args()
	args["ids"] = ids
	delete(args, "limit")
	rows, err := many[SiteRow](ctx, db, siteRows+" AND s.id = ANY(@ids)) SELECT "+siteRowColumns+" FROM listed", args)
	slices.SortFunc(rows, func(a, b SiteRow) int { return slices.Index(ids, a.ID) - slices.Index(ids, b.ID) })
	return rows, err
}

// First asks for the first sites in a state.
type First struct {
	State string // a key of States
	Sort  string // a key of siteSorts
	Limit int
}

// Glance counts the sites in each state, and returns the first ones in some states, looking at all of them once only.
func (db *DB) Glance(ctx context.Context, wanted []First) (states map[string]int, firsts [][]SiteRow, err error) {
	names := slices.Sorted(maps.Keys(States))
	counts := make([]string, len(names))
	for i, name := range names {
		counts[i] = "count(*) FILTER (WHERE " + States[name] + ")"
	}
	sql := siteRows + `), seen AS MATERIALIZED (SELECT id, name, title, bytes, failed, warned, accepted, checked_at, leads, lead_since, held, visible,
		behind, tasks, made_at, retired_at, ends, copied_at FROM listed) SELECT 0 AS list, ARRAY[` + strings.Join(counts, ", ") + "] AS numbers FROM seen"
	for i, w := range wanted {
		order := siteSorts[w.Sort][0] + ", name, id"
		sql += fmt.Sprintf(" UNION ALL SELECT %d, array_agg(id ORDER BY %s) FROM (SELECT * FROM seen WHERE %s ORDER BY %s LIMIT %d) f%d",
			i+1, order, States[w.State], order, w.Limit, i)
	}
	type line struct {
		List    int
		Numbers []int64
	}
	f := SiteFilter{}
	args := f.args()
	delete(args, "limit")
	lines, err := many[line](ctx, db, sql, args)
	if err != nil {
		return nil, nil, err
	}
	states, firsts = map[string]int{}, make([][]SiteRow, len(wanted))
	var ids []int64
	for _, l := range lines {
		if l.List > 0 {
			ids = append(ids, l.Numbers...)
			continue
		}
		for i, n := range l.Numbers {
			states[names[i]] = int(n)
		}
	}
	rows, err := db.rowsOf(ctx, f, ids)
	by := map[int64]SiteRow{}
	for _, r := range rows {
		by[r.ID] = r
	}
	for _, l := range lines {
		for _, id := range l.Numbers {
			if r, there := by[id]; there && l.List > 0 {
				firsts[l.List-1] = append(firsts[l.List-1], r)
			}
		}
	}
	return states, firsts, err
}

// SiteStates counts the sites that a filter lets through but for its state: all of them, and those in each state.
func (db *DB) SiteStates(ctx context.Context, f SiteFilter) (total int, states map[string]int, err error) {
	names, counts := []string{}, []string{"count(*)::int"}
	for name, condition := range States {
		names = append(names, name)
		counts = append(counts, "count(*) FILTER (WHERE "+condition+")::int")
	}
	numbers := make([]int, len(counts))
	into := make([]any, len(counts))
	for i := range numbers {
		into[i] = &numbers[i]
	}
	args := f.args()
	delete(args, "limit")
	err = db.Pool.QueryRow(ctx, siteRows+") SELECT "+strings.Join(counts, ", ")+" FROM listed", args).Scan(into...)
	states = map[string]int{}
	for i, name := range names {
		states[name] = numbers[i+1]
	}
	return numbers[0], states, err
}

// ChecksMillis is how long the checks of the newest sites of a release's starter took, in the middle; 0 where none was checked.
func (db *DB) ChecksMillis(ctx context.Context, releaseID int64) (millis int64, err error) {
	err = db.Pool.QueryRow(ctx, `SELECT COALESCE(percentile_disc(0.5) WITHIN GROUP (ORDER BY took), 0)::bigint FROM (
		SELECT (s.report->>'took_ms')::bigint AS took FROM sites s JOIN releases r ON r.id = s.release_id
		WHERE r.starter_id = (SELECT starter_id FROM releases WHERE id = $1) AND s.report IS NOT NULL ORDER BY s.id DESC LIMIT 9) t`, releaseID).Scan(&millis)
	return millis, err
}

// MakingMillis is how long the newest sites of a release's starter took to be made whole on a host, without their checks, in the middle:
// of tenants, or of sites with code of their own; 0 where none was made.
func (db *DB) MakingMillis(ctx context.Context, releaseID, hostID int64, tenants bool) (millis int64, err error) {
	err = db.Pool.QueryRow(ctx, `SELECT COALESCE(percentile_disc(0.5) WITHIN GROUP (ORDER BY took), 0)::bigint FROM (
		SELECT GREATEST(1, extract(epoch FROM u.ended_at - u.started_at) * 1000
			- CASE WHEN u.args ? 'unchecked' THEN 0 ELSE COALESCE((s.report->>'took_ms')::bigint, 0) END) AS took
		FROM sites s JOIN releases r ON r.id = s.release_id JOIN runs u ON u.id = s.run_id
		WHERE r.starter_id = (SELECT starter_id FROM releases WHERE id = $1) AND s.host_id = $2 AND (s.code_id IS NOT NULL) = $3
			AND u.job = 'provision' AND u.status = 'done' AND u.attempt = 1
			AND NOT u.args ?| ARRAY['refresh', 'copy_id'] ORDER BY s.id DESC LIMIT 5) t`, releaseID, hostID, tenants).Scan(&millis)
	return millis, err
}

// StarterBehind is a starter of which sites are of older releases than its newest.
type StarterBehind struct {
	Starter string
	Newest  int
	Sites   int
}

// Behind lists them, those with the most sites first.
func (db *DB) Behind(ctx context.Context) ([]StarterBehind, error) {
	return many[StarterBehind](ctx, db, `SELECT t.name AS starter, n.newest, count(*)::int AS sites
		FROM sites s JOIN releases r ON r.id = s.release_id JOIN starters t ON t.id = r.starter_id
		JOIN (SELECT starter_id, max(number) AS newest FROM releases GROUP BY 1) n ON n.starter_id = r.starter_id
		WHERE s.retired_at IS NULL AND r.number < n.newest GROUP BY 1, 2 ORDER BY 3 DESC, 1`)
}

// OpenTask is a launch task that is still to be done.
type OpenTask struct {
	Site    string
	Title   string // of the site
	Address string
	Key     string
	Task    string
	Page    string
	Due     *time.Time
}

// OpenTasks lists the launch tasks that are to be done, those that are due first, and counts all.
func (db *DB) OpenTasks(ctx context.Context, limit int) (tasks []OpenTask, total int, err error) {
	type counted struct {
		OpenTask
		Total int
	}
	rows, err := many[counted](ctx, db, `SELECT s.name AS site, s.title, s.address, t.key, t.title AS task, t.page, t.due, count(*) OVER ()::int AS total
		FROM launch_tasks t JOIN sites s ON s.id = t.site_id
		WHERE t.done_at IS NULL AND s.retired_at IS NULL ORDER BY t.due NULLS LAST, s.made_at DESC, s.name, t.place LIMIT $1`, limit)
	for _, r := range rows {
		tasks, total = append(tasks, r.OpenTask), r.Total
	}
	return tasks, total, err
}

func explainCursor(err error) error {
	if code := pgCode(err); strings.HasPrefix(code, "22") { // a key that is none of the sort's type
		return ErrCursor
	}
	return err
}
