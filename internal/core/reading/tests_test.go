package reading

import (
	"strings"
	"testing"
)

func TestGoTest(t *testing.T) {
	report := `{"Action":"start","Package":"heath/forage"}
{"Action":"run","Package":"heath/forage","Test":"TestDays"}
{"Action":"run","Package":"heath/forage","Test":"TestDays/late_frost"}
{"Action":"output","Package":"heath/forage","Test":"TestDays/late_frost","Output":"    forage_test.go:88: got 3, want 2\n"}
{"Action":"fail","Package":"heath/forage","Test":"TestDays/late_frost","Elapsed":0.02}
{"Action":"pass","Package":"heath/forage","Test":"TestDays/leap","Elapsed":0.01}
{"Action":"fail","Package":"heath/forage","Test":"TestDays","Elapsed":0.03}
{"Action":"skip","Package":"heath/forage","Test":"TestSlow","Elapsed":0}
{"Action":"fail","Package":"heath/forage","Elapsed":0.1}
# heath/page
page/page.go:3:1: syntax error
{"Action":"output","Package":"heath/page","Output":"FAIL\theath/page [build failed]\n"}
{"Action":"fail","Package":"heath/page","Elapsed":0}
{"Action":"run","Package":"heath/hang","Test":"TestHang"}
{"Action":"fail","Package":"heath/hang","Elapsed":1}
`
	cases, err := Tests(strings.NewReader(report))
	if err != nil {
		t.Fatal(err)
	}
	if sum := Sum(cases); sum != (Summary{Total: 5, Passed: 1, Failed: 3, Skipped: 1}) {
		t.Errorf("sum %+v of %+v", sum, cases)
	}
	if c := cases[0]; c.Name != "TestDays/late_frost" || c.Outcome != Failed || c.Message != "forage_test.go:88: got 3, want 2" || c.Seconds != 0.02 {
		t.Errorf("first case %+v", c)
	}
}

func TestJUnit(t *testing.T) {
	report := `<?xml version="1.0"?><testsuites><testsuite name="scale">
<testcase name="tare" classname="scale.Tare" time="0.5"/>
<testcase name="drift" time="1,200.5"><failure message="off by 3">at 12 kg</failure></testcase>
<testcase name="cold"><error message="boom"/></testcase>
<testcase name="hot"><skipped message="no oven"/></testcase>
</testsuite></testsuites>`
	cases, err := Tests(strings.NewReader("\ufeff" + report))
	if err != nil {
		t.Fatal(err)
	}
	if sum := Sum(cases); sum != (Summary{4, 1, 2, 1}) {
		t.Errorf("sum %+v", sum)
	}
	if c := cases[1]; c.Suite != "scale" || c.Seconds != 1200.5 || c.Message != "off by 3\nat 12 kg" {
		t.Errorf("got %+v", c)
	}
	if c := cases[0]; c.Suite != "scale.Tare" {
		t.Errorf("got %+v", c)
	}
}

func TestBrokenReports(t *testing.T) {
	for name, text := range map[string]string{
		"another form": "tap version 13", "XML cut": "<testsuite><testcase name='a'>", "no testsuite": "<html></html>", "event cut": `{"Action":`,
	} {
		if _, err := Tests(strings.NewReader(text)); err == nil {
			t.Errorf("%s: taken", name)
		}
	}
	if cases, err := Tests(strings.NewReader("")); err != nil || len(cases) > 0 {
		t.Errorf("an empty report: %v %v", cases, err)
	}
}

func FuzzTests(f *testing.F) {
	f.Add("<testsuite><testcase name='a'/></testsuite>")
	f.Add(`{"Action":"fail","Package":"p","Test":"T"}`)
	f.Fuzz(func(t *testing.T, text string) {
		cases, err := Tests(strings.NewReader(text))
		if sum := Sum(cases); err == nil && sum.Total != sum.Passed+sum.Failed+sum.Skipped {
			t.Errorf("sum %+v", sum)
		}
	})
}

func TestTAP(t *testing.T) {
	report := "TAP version 14\n1..6\nok 1 - weighs\nnot ok 2 - tares\n  ---\n  at: scale_test.c:31\n  ...\nok 3 - sleeps # SKIP no clock\nnot ok 4 # TODO later\nok\n"
	cases, err := Tests(strings.NewReader(report))
	if err != nil || len(cases) != 6 {
		t.Fatalf("%+v, %v", cases, err)
	}
	if s := Sum(cases); s != (Summary{6, 2, 2, 2}) {
		t.Errorf("%+v", s)
	}
	if cases[1].Name != "tares" || cases[1].Place() != "scale_test.c:31" || cases[2].Message != "no clock" || cases[5].Name != "(tests that never came)" {
		t.Errorf("%+v", cases)
	}
	if cases, err := Tests(strings.NewReader("ok 1\nBail out! no scale\n")); err != nil || cases[1].Message != "no scale" {
		t.Errorf("%+v, %v", cases, err)
	}
}

func TestPlace(t *testing.T) {
	for message, want := range map[string]string{
		"    hive_test.go:12: got 3": "hive_test.go:12", "at Object.<anonymous> (/src/test/bloom.test.js:7:3)": "/src/test/bloom.test.js:7",
		"Traceback\n  File \"/usr/lib/unittest.py\", line 5\n  File \"tests/test_swarm.py\", line 21, in test\n": "tests/test_swarm.py:21", "no place": "",
	} {
		if got := (Case{Message: message}).Place(); got != want {
			t.Errorf("%q: %q", message, got)
		}
	}
	if got := (Case{File: "a.py", Line: 3, Message: "b.py:9"}).Place(); got != "a.py:3" {
		t.Error(got)
	}
}
