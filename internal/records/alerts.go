package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// ChannelNameTaken is what a TakenError of a channel's name is about.
const ChannelNameTaken = "channels_name"

// Alert is something that somebody had or has to be told of.
type Alert struct {
	ID          string     `db:"id"`
	Kind        string     `db:"kind"`
	ThingKind   string     `db:"thing_kind"`
	ThingID     string     `db:"thing_id"`
	Name        string     `db:"name"` // of the thing
	GroupID     string     `db:"group_id"`
	GroupTier   string     `db:"group_tier"`
	GroupTags   Tags       `db:"group_tags"`
	Level       string     `db:"level"`
	Text        string     `db:"text"`
	Mend        string     `db:"mend"`
	Members     Tags       `db:"members"`
	Since       time.Time  `db:"since"`
	RaisedAt    time.Time  `db:"raised_at"`
	GoneAt      *time.Time `db:"gone_at"`
	ClearedAt   *time.Time `db:"cleared_at"`
	ToldAt      *time.Time `db:"told_at"`
	EscalatedAt *time.Time `db:"escalated_at"`
	AckedAt     *time.Time `db:"acked_at"`
	AckedBy     string     `db:"acked_by"`
	AckNote     string     `db:"ack_note"`
	Silenced    string     `db:"silenced"`
	PartOf      string     `db:"part_of"`
}

// OpenAlerts lists those that are not cleared, oldest first.
func (db *DB) OpenAlerts(ctx context.Context) ([]Alert, error) {
	return list[Alert](ctx, db, "alerts", `SELECT * FROM alerts WHERE cleared_at IS NULL ORDER BY raised_at, id`)
}

// ClearedAlerts lists those that were raised in [from, to) and are cleared, newest first.
func (db *DB) ClearedAlerts(ctx context.Context, from, to time.Time, limit int) ([]Alert, error) {
	return list[Alert](ctx, db, "alerts", `SELECT * FROM alerts WHERE cleared_at IS NOT NULL AND raised_at >= $1 AND raised_at < $2 ORDER BY raised_at DESC, id LIMIT $3`, from, to, limit)
}

// Message is an event that a channel is told of.
type Message struct {
	ID        string     `db:"id"` // the same at each try
	ChannelID string     `db:"channel_id"`
	Number    int64      `db:"number"` // rises in the order in which they are told
	Event     string     `db:"event"`
	AlertID   *string    `db:"alert_id"`
	Body      []byte     `db:"body"`
	CreatedAt time.Time  `db:"created_at"`
	NextAt    time.Time  `db:"next_at"` // it is not tried before
	Tries     int        `db:"tries"`
	SentAt    *time.Time `db:"sent_at"`
	GivenUpAt *time.Time `db:"given_up_at"`
	Error     string     `db:"error"` // of the last try
}

// PutAlerts writes alerts as they are now and what is to be told of them, together. What a
// channel was or will be told of an alert already is not told again.
func (db *DB) PutAlerts(ctx context.Context, as []Alert, ms []Message) error {
	if len(as)+len(ms) == 0 {
		return nil
	}
	return db.together(ctx, "alerts", func(tx *sqlx.Tx) error {
		for _, a := range as {
			// Who acknowledged it is written by itself.
			_, err := named(ctx, tx, "alert", `INSERT INTO alerts (id, kind, thing_kind, thing_id, name, group_id, group_tier, group_tags, level, text, mend, members, since, raised_at, gone_at, cleared_at, told_at, escalated_at, silenced, part_of)
				VALUES (:id, :kind, :thing_kind, :thing_id, :name, :group_id, :group_tier, :group_tags, :level, :text, :mend, :members, :since, :raised_at, :gone_at, :cleared_at, :told_at, :escalated_at, :silenced, :part_of)
				ON CONFLICT (id) DO UPDATE SET name = :name, group_tier = :group_tier, group_tags = :group_tags, level = :level, text = :text, mend = :mend, members = :members, gone_at = :gone_at, cleared_at = :cleared_at,
				told_at = :told_at, escalated_at = :escalated_at, silenced = :silenced, part_of = :part_of`, a)
			if err != nil {
				return err
			}
		}
		return addMessages(ctx, tx, ms)
	})
}

func addMessages(ctx context.Context, x sqlx.ExtContext, ms []Message) error {
	for _, m := range ms {
		if _, err := named(ctx, x, "message", `INSERT INTO messages (id, channel_id, event, alert_id, body, created_at, next_at)
			SELECT :id, :channel_id, :event, :alert_id, :body, :created_at, :next_at WHERE EXISTS (SELECT FROM channels WHERE id = :channel_id)
			ON CONFLICT DO NOTHING`, m); err != nil {
			return err
		}
	}
	return nil
}

// AckAlert notes that somebody has taken note of an open alert; ErrStale says that somebody
// has already, or that it is cleared.
func (db *DB) AckAlert(ctx context.Context, id, by, note string, at time.Time) error {
	_, err := change[string](ctx, db, "alert", `UPDATE alerts SET acked_at = $4, acked_by = $2, ack_note = $3 WHERE id = $1 AND acked_at IS NULL AND cleared_at IS NULL RETURNING id::text`, id, by, note, at)
	return stale(err)
}

// TrimAlerts forgets alerts that were cleared before a time, and messages that were
// delivered before it.
func (db *DB) TrimAlerts(ctx context.Context, before time.Time) error {
	if err := db.exec(ctx, "alerts", `DELETE FROM alerts WHERE cleared_at < $1`, before); err != nil {
		return err
	}
	return db.exec(ctx, "messages", `DELETE FROM messages WHERE COALESCE(sent_at, given_up_at) < $1`, before)
}

// AlertRules gives the rules that are not the usual ones, as one document, and their
// revision.
func (db *DB) AlertRules(ctx context.Context) (rules []byte, revision int64, err error) {
	v, err := get[struct {
		Revision int64  `db:"revision"`
		Rules    []byte `db:"rules"`
	}](ctx, db, "alert rules", `SELECT revision, rules FROM alert_rules`)
	return v.Rules, v.Revision, err
}

// PutAlertRules replaces them; ErrStale says that they are of another revision.
func (db *DB) PutAlertRules(ctx context.Context, rules []byte, revision int64) error {
	_, err := change[int64](ctx, db, "alert rules", `UPDATE alert_rules SET rules = $1, revision = revision + 1 WHERE revision = $2 RETURNING revision`, rules, revision)
	return stale(err)
}

// Silence is when nobody is told. Its body is in the form of the room that keeps it.
type Silence struct {
	ID     string     `db:"id"`
	Body   []byte     `db:"body"`
	MadeBy string     `db:"made_by"`
	MadeAt time.Time  `db:"made_at"`
	OverAt *time.Time `db:"over_at"`
}

// Silences lists those that are not over, oldest first.
func (db *DB) Silences(ctx context.Context, now time.Time) ([]Silence, error) {
	return list[Silence](ctx, db, "silences", `SELECT * FROM silences WHERE over_at IS NULL OR over_at > $1 ORDER BY made_at, id`, now)
}

// AddSilence stores one.
func (db *DB) AddSilence(ctx context.Context, s Silence) error {
	return db.named(ctx, "silence", `INSERT INTO silences (id, body, made_by, made_at, over_at) VALUES (:id, :body, :made_by, :made_at, :over_at)`, s)
}

// EndSilence ends one; the error wraps ErrNotFound if it is over.
func (db *DB) EndSilence(ctx context.Context, id string, at time.Time) error {
	_, err := change[string](ctx, db, "silence", `UPDATE silences SET over_at = $2 WHERE id = $1 AND (over_at IS NULL OR over_at > $2) RETURNING id::text`, id, at)
	return err
}

// Channel is where people are told. Its body is in the form of the room that keeps it.
type Channel struct {
	ID         string     `db:"id"`
	Name       string     `db:"name"`
	Kind       string     `db:"kind"`
	Revision   int64      `db:"revision"`
	Body       []byte     `db:"body"`
	Secret     []byte     `db:"secret"` // sealed; nil is none
	DigestedAt *time.Time `db:"digested_at"`
}

// Channels lists all by name.
func (db *DB) Channels(ctx context.Context) ([]Channel, error) {
	return list[Channel](ctx, db, "channels", `SELECT * FROM channels ORDER BY lower(name)`)
}

// PutChannel stores one that follows the revision before, 0 of a new one. ErrStale says that
// there is another revision, a TakenError that its name is another's.
func (db *DB) PutChannel(ctx context.Context, c Channel) error {
	return db.together(ctx, "channel", func(tx *sqlx.Tx) error {
		query := `UPDATE channels SET name = $2, kind = $3, revision = $4, body = $5, secret = $6 WHERE id = $1 AND revision = $4 - 1`
		if c.Revision == 1 {
			query = `INSERT INTO channels (id, name, kind, revision, body, secret) VALUES ($1, $2, $3, $4, $5, $6)`
		}
		n, err := exec(ctx, tx, "channel", query, c.ID, c.Name, c.Kind, c.Revision, c.Body, c.Secret)
		if err == nil && n == 0 {
			err = fmt.Errorf("channel %s: %w", c.Name, ErrStale)
		}
		return err
	})
}

// DeleteChannel forgets one, and what it was to be told.
func (db *DB) DeleteChannel(ctx context.Context, id string) error {
	return db.exec(ctx, "channel", `DELETE FROM channels WHERE id = $1`, id)
}

// AddDigest stores the message of a morning, once: it does nothing if there is one of that
// morning already.
func (db *DB) AddDigest(ctx context.Context, m Message, morning time.Time) error {
	return db.together(ctx, "digest", func(tx *sqlx.Tx) error {
		n, err := exec(ctx, tx, "digest", `UPDATE channels SET digested_at = $2 WHERE id = $1 AND (digested_at IS NULL OR digested_at < $2)`, m.ChannelID, morning)
		if err != nil || n == 0 {
			return err
		}
		return addMessages(ctx, tx, []Message{m})
	})
}

// NextMessages gives the first message of each channel that is not delivered: what comes
// after it waits.
func (db *DB) NextMessages(ctx context.Context) ([]Message, error) {
	return list[Message](ctx, db, "messages", `SELECT DISTINCT ON (channel_id) * FROM messages WHERE sent_at IS NULL AND given_up_at IS NULL ORDER BY channel_id, number`)
}

// TryMessage notes a try: that it was delivered, failed and when it is tried again, or was
// given up.
func (db *DB) TryMessage(ctx context.Context, m Message) error {
	return db.named(ctx, "message", `UPDATE messages SET tries = :tries, next_at = :next_at, sent_at = :sent_at, given_up_at = :given_up_at, error = :error WHERE id = :id`, m)
}

// LastMessages gives the newest message of each channel that was tried, and how many wait
// for each.
func (db *DB) LastMessages(ctx context.Context) (last []Message, waiting map[string]int, err error) {
	if last, err = list[Message](ctx, db, "messages", `SELECT m.* FROM channels c CROSS JOIN LATERAL (SELECT * FROM messages WHERE channel_id = c.id AND (tries > 0 OR given_up_at IS NOT NULL) ORDER BY number DESC LIMIT 1) m`); err != nil {
		return nil, nil, err
	}
	counts, err := list[struct {
		Channel string `db:"channel_id"`
		N       int    `db:"n"`
	}](ctx, db, "messages", `SELECT channel_id, count(*) AS n FROM messages WHERE sent_at IS NULL AND given_up_at IS NULL GROUP BY channel_id`)
	waiting = map[string]int{}
	for _, c := range counts {
		waiting[c.Channel] = c.N
	}
	return last, waiting, err
}
