package password

import "testing"

func TestPasswords(t *testing.T) {
	h := Hash("correct horse")
	if ok, err := Matches("correct horse", h); !ok || err != nil {
		t.Errorf("the right one: %v, %v", ok, err)
	}
	if ok, _ := Matches("wrong", h); ok {
		t.Error("a wrong one")
	}
	for _, bad := range []string{"", "plain", "$argon2id$v=19$m=0,t=0,p=0$$", "$argon2id$v=19$m=99999999,t=1,p=1$YQ$YQ",
		"$bcrypt$x$y$z$w"} {
		if ok, err := Matches("x", bad); ok || err == nil {
			t.Errorf("hash %q: %v, %v", bad, ok, err)
		}
	}
}

func TestEachHashHasASaltOfItsOwn(t *testing.T) {
	if Hash("correct horse") == Hash("correct horse") {
		t.Error("the same password has the same hash twice")
	}
}
