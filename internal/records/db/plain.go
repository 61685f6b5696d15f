package db

import (
	"bytes"
	"context"
	"encoding/json"
	"slices"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"keenlodge/internal/core/plain"
)

// Plain has connections write every text as PostgreSQL can keep it: it takes no NUL and nothing that is not UTF-8, and guests, stores, servers
// and callers say what they like. One odd character must not keep an image from being recorded.
func Plain(config *pgxpool.Config) {
	// Texts pass no codec on their way, so they are seen to where a statement begins: with its arguments, before they are sent.
	config.ConnConfig.Tracer = plainTexts{}
	config.AfterConnect = func(_ context.Context, c *pgx.Conn) error {
		c.TypeMap().RegisterType(&pgtype.Type{Name: "jsonb", OID: pgtype.JSONBOID, Codec: jsonCodec{&pgtype.JSONBCodec{Marshal: marshalPlain, Unmarshal: json.Unmarshal}}})
		return nil
	}
}

type plainTexts struct{}

// TraceQueryStart implements [pgx.QueryTracer].
func (plainTexts) TraceQueryStart(ctx context.Context, _ *pgx.Conn, data pgx.TraceQueryStartData) context.Context {
	for i, arg := range data.Args {
		switch v := arg.(type) {
		case string:
			data.Args[i] = plain.Text(v, len(v))
		case []string:
			if slices.ContainsFunc(v, func(s string) bool { return plain.Text(s, len(s)) != s }) {
				v = slices.Clone(v)
				for j, s := range v {
					v[j] = plain.Text(s, len(s))
				}
				data.Args[i] = v
			}
		}
	}
	return ctx
}

// TraceQueryEnd implements [pgx.QueryTracer].
func (plainTexts) TraceQueryEnd(context.Context, *pgx.Conn, pgx.TraceQueryEndData) {}

type jsonCodec struct{ *pgtype.JSONBCodec }

func (c jsonCodec) PlanEncode(m *pgtype.Map, oid uint32, format int16, value any) pgtype.EncodePlan {
	plan := c.JSONBCodec.PlanEncode(m, oid, format, value)
	switch value.(type) {
	case []byte, json.RawMessage:
		return plainJSON{plan}
	}
	return plan
}

type plainJSON struct{ next pgtype.EncodePlan }

func (p plainJSON) Encode(value any, buf []byte) ([]byte, error) {
	switch v := value.(type) {
	case []byte:
		value = withoutNUL(v)
	case json.RawMessage:
		value = json.RawMessage(withoutNUL(v))
	}
	return p.next.Encode(value, buf)
}

func marshalPlain(v any) ([]byte, error) {
	body, err := json.Marshal(v)
	return withoutNUL(body), err
}

// withoutNUL writes U+FFFD for each U+0000 of a document in JSON.
func withoutNUL(body []byte) []byte {
	if !bytes.Contains(body, []byte(`\u0000`)) {
		return body
	}
	body = bytes.Clone(body)
	for i := 0; i+5 < len(body); i++ {
		if body[i] != '\\' {
			continue
		}
		if bytes.HasPrefix(body[i+1:], []byte("u0000")) {
			copy(body[i+1:], "ufffd")
		}
		i++ // what is escaped escapes nothing
	}
	return body
}
