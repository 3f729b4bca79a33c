package value

import "testing"

func TestHardwareAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"02:00:5e:00:53:0A": "02:00:5e:00:53:0a", "02-00-5E-00-53-0a": "02:00:5e:00:53:0a",
		"0200.5e00.530a": "02:00:5e:00:53:0a", " 02005E00530A ": "02:00:5e:00:53:0a",
		"": "", "02:00:5e:00:53": "", "02:00:5e:00:53:0a:0b:0c": "", "0200-5e00-530a0": "", "maren": "", "02005e00530g": "",
		"00:00:00:00:00:00": "", "FF-FF-FF-FF-FF-FF": "", "02:00-5e:00:53:0a": "",
	} {
		if got := HardwareAddress(text); got != want {
			t.Errorf("%q is read as %q, expected %q", text, got, want)
		}
	}
}
