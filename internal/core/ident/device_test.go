package ident

import "testing"

// TestPhoneOf: a generic system is no phone; the vendor partition beside it names the phone.
func TestPhoneOf(t *testing.T) {
	for _, c := range []struct {
		name  string
		props map[string]string
		want  string
	}{
		{name: "its own system", props: map[string]string{"ro.product.device": "wader"}, want: "wader"},
		{name: "a generic system, and its vendor",
			props: map[string]string{"ro.product.device": "generic_arm64_ab",
				"ro.product.system.device": "generic_arm64_ab",
				"ro.product.vendor.device": "wader"}, want: "wader"},
		{name: "a generic system alone", props: map[string]string{"ro.product.device": "generic_arm64",
			"ro.build.product": "generic"}},
		{name: "nothing"},
	} {
		if got := PhoneOf(c.props); got != c.want {
			t.Errorf("%s: PhoneOf gives %q, want %q", c.name, got, c.want)
		}
	}
}
