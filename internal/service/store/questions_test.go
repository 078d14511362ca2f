package store

import (
	"errors"
	"sync"
	"testing"
	"time"
)

// A question is taken once, answered only by the host that was asked, and forgotten with its answer.
func TestQuestions(t *testing.T) {
	ctx := t.Context()
	host, other := name("host"), name("host")
	first, err := st.Ask(ctx, host, []byte(`{"n":1}`))
	must(t, err)
	second, err := st.Ask(ctx, host, []byte(`{"n":2}`))
	must(t, err)
	if id, _, err := st.TakeQuestion(ctx, other); err != nil || id != "" {
		t.Errorf("another host got %q, %v", id, err)
	}

	var mu sync.Mutex
	got := map[string]int{}
	var wg sync.WaitGroup

	for range 8 {
		wg.Go(func() {
			for range 4 { // one that lost a race is given nothing, and asks again
				id, _, err := st.TakeQuestion(ctx, host)
				if err != nil {
					t.Error(err)
				}

				mu.Lock()
				got[id]++
				mu.Unlock()
			}
		})
	}

	wg.Wait()
	if got[first] != 1 || got[second] != 1 {
		t.Errorf("taken: %v", got)
	}

	if err := st.AnswerQuestion(ctx, other, first, []byte("forged")); !errors.Is(err, ErrNotFound) &&
		!errors.Is(err, ErrConflict) {
		t.Errorf("another host answered: %v", err)
	}

	if b, err := st.Answer(ctx, first); b != nil || err != nil {
		t.Errorf("an answer before it was given: %q, %v", b, err)
	}

	must(t, st.AnswerQuestion(ctx, host, first, []byte("true")))
	if err := st.AnswerQuestion(ctx, host, first, []byte("again")); err == nil {
		t.Error("a question was answered twice")
	}

	if b, err := st.Answer(ctx, first); string(b) != "true" || err != nil {
		t.Errorf("%q, %v", b, err)
	}

	if b, err := st.Answer(ctx, first); b != nil || err != nil {
		t.Errorf("an answer was given twice: %q, %v", b, err)
	}

	must(t, st.Forget(ctx, second))
	if err := st.AnswerQuestion(ctx, host, second, []byte("late")); err == nil {
		t.Error("a forgotten question was answered")
	}
}

// Nobody can leave questions without end.
func TestQuestionsAreBounded(t *testing.T) {
	ctx := t.Context()
	host := name("host")
	for range maxWaiting {
		_, err := st.Ask(ctx, host, []byte(`{}`))
		must(t, err)
	}

	if _, err := st.Ask(ctx, host, []byte(`{}`)); !errors.Is(err, ErrConflict) {
		t.Errorf("one more: %v", err)
	}

	if _, _, err := st.TakeQuestion(ctx, host); err != nil {
		t.Error(err)
	}

	if _, err := st.Ask(ctx, host, []byte(`{}`)); err != nil {
		t.Errorf("after one was taken: %v", err)
	}

	_, err := st.db.ExecContext(ctx, `DELETE FROM question WHERE host = ?`, host)
	must(t, err)
}

// Nobody answers old questions, and they go away by themselves.
func TestOldQuestions(t *testing.T) {
	ctx := t.Context()
	host := name("host")
	id, err := st.Ask(ctx, host, []byte(`{}`))
	must(t, err)
	_, err = st.db.ExecContext(ctx, `UPDATE question SET created = ? WHERE id = ?`,
		now().Add(-questionLife-time.Second), id)
	must(t, err)
	if got, _, err := st.TakeQuestion(ctx, host); err != nil || got != "" {
		t.Errorf("an old question was given out: %q, %v", got, err)
	}

	for range 5 { // others may have left some too, and a few go at a time
		_, err = st.Ask(ctx, host, []byte(`{}`))
		must(t, err)
	}

	var n int
	must(t, st.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM question WHERE id = ?`, id))
	if n != 0 {
		t.Error("an old question stays")
	}
}
