package httpd

import "testing"

// What a person writes is read for what it is, whatever the writing.
func TestWho(t *testing.T) {
	for who, want := range map[string]historyQuery{
		"10.77.0.17":                    {Address: "10.77.0.17"},
		" 2001:DB8::17 ":                {Address: "2001:DB8::17"},
		"2001:db8:40:1:5ca1:ab1e:0:1":   {Address: "2001:db8:40:1:5ca1:ab1e:0:1"},
		"2001:db8:8000::/56":            {Address: "2001:db8:8000::/56"},
		"02-40-18-00-00-07":             {Hardware: "02-40-18-00-00-07"},
		"0240.1800.0007":                {Hardware: "0240.1800.0007"},
		"02:40:18:00:00:07:00:01":       {Hardware: "02:40:18:00:00:07:00:01"},
		"00:03:00:01:02:40:18:00:00:07": {DUID: "00:03:00:01:02:40:18:00:00:07"},
		"0:3:0:1:2:40:18:0:0:7":         {DUID: "0:3:0:1:2:40:18:0:0:7"},
		"000100012D0A4CB8024010000004":  {DUID: "000100012D0A4CB8024010000004"},
		"facade":                        {Hostname: "facade"},
		"press-room":                    {Hostname: "press-room"},
		"":                              {},
	} {
		got := historyQuery{Who: who}
		got.sort()
		got.Who = ""
		if got != want {
			t.Errorf("%q is read as %+v, and not %+v", who, got, want)
		}
	}
}
