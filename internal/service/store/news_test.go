package store

import "testing"

// However much noise somebody makes in another one's name, it hides nothing that has changed in how that one signs in.
func TestNoiseHidesNoNews(t *testing.T) {
	ctx, who := t.Context(), name("noisy")
	must(t, st.AddPerson(ctx, Person{Name: who, RoleList: "viewer"}))
	must(t, st.Audit(ctx, By{Who: who}, "passkey added", who, "ring"))
	for range 300 {
		must(t, st.Audit(ctx, By{Who: "nobody"}, "sign-in refused", who, "again"))
	}

	must(t, st.Audit(ctx, By{Who: "nobody"}, "sign-in refused", who, "the last"))
	must(t, st.Audit(ctx, By{Who: "admin"}, "passkey added", name("another"), "ring"))
	kinds := []string{"passkey added", "sign-in refused"}
	got, err := st.News(ctx, who, "", kinds, 200)
	if err != nil || len(got) != 2 || got[0].Times != 301 || got[0].Detail != "the last" ||
		got[1].What != "passkey added" || got[1].Who != who || got[1].Times != 1 {
		t.Fatalf("%+v, %v", got, err)
	}

	must(t, st.SetTold(ctx, who, got[0].Line))
	p, err := st.Person(ctx, who)
	must(t, err)
	if rest, err := st.News(ctx, who, p.Told, kinds, 200); err != nil || len(rest) != 0 {
		t.Errorf("%+v, %v", rest, err)
	}
}
