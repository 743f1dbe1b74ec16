package signature

import "testing"

func TestCheck(t *testing.T) {
	key, body := []byte("heather"), []byte("main moved")
	// printf '1796049000.main moved' | openssl dgst -sha256 -hmac heather
	good := Of(key, "1796049000", body)
	if want := "hmac-sha256 920100bec3e74df12cbfd9fef02139585b01cddb30e4c89030074821652ae6a4"; good != want {
		t.Fatalf("%s, and openssl says %s", good, want)
	}
	if _, ok := Check(good, key, "1796049000", body); !ok {
		t.Error("a right signature is refused")
	}
	for what, text := range map[string]string{"another scheme": "hmac-sha1 " + good[12:], "no scheme": good[12:], "cut": good[:len(good)-2], "not hex": "hmac-sha256 xyz", "nothing": ""} {
		if _, ok := Check(text, key, "1796049000", body); ok {
			t.Errorf("%s is taken", what)
		}
	}
	for _, wrong := range []struct{ key, at, body string }{{"clover", "1796049000", "main moved"}, {"heather", "1796049001", "main moved"}, {"heather", "1796049000", "main move"}, {"heather", "179604900", "0.main moved"}} {
		if _, ok := Check(good, []byte(wrong.key), wrong.at, []byte(wrong.body)); ok {
			t.Errorf("%+v is taken", wrong)
		}
	}
}
