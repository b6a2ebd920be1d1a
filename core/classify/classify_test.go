package classify

import (
	"fmt"
	"strings"
	"testing"
)

func TestLook(t *testing.T) {
	ibans := []string{"GB82 WEST 1234 5698 7654 32", "DE89370400440532013000", "FR1420041010050500013M02606", "NL91ABNA0417164300", "BE68539007547034"}
	for _, c := range []struct {
		name   string
		column Column
		want   string // form at confidence, the surest first
	}{
		{"by name and values", Column{"holders", "email", "text", []string{"a@b.test", "c.d@e.test", "x@y.example", "p@q.test", "r@s.test"}}, "e-mail address 0.96"},
		{"by values alone", Column{"t", "note", "text", []string{"a@b.test", "c.d@e.test", "x@y.example", "p@q.test", "r@s.test"}}, "e-mail address 0.9"},
		{"by name alone", Column{"t", "eMail", "text", nil}, "e-mail address 0.6"},
		{"a name that the values contradict", Column{"t", "mail", "text", []string{"sent", "open", "sent", "lost", "sent", "sent"}}, ""},
		{"few values prove less", Column{"t", "note", "text", []string{"a@b.test"}}, "e-mail address 0.45"},
		{"telephone numbers", Column{"t", "reach_at", "text", []string{"+44 20 7946 0000", "+1 (555) 010-9999", "030 901820", "+33 1 23 45 67 89", "01632 960 001"}}, "telephone number 0.5"},
		{"an IBAN by its checksum", Column{"t", "reference", "text", ibans}, "bank account (IBAN) 0.95"},
		{"the form without the checksum", Column{"t", "reference", "text", []string{"GB00WEST12345698765432", "DE00370400440532013000", "FR0020041010050500013M02606", "NL00ABNA0417164300", "BE00539007547034"}}, "bank account (IBAN) 0.5"},
		{"a bank account by name", Column{"holders", "bank_account", "text", []string{"1", "2"}}, "bank account (IBAN) 0.6"},
		{"cards by their checksum", Column{"t", "n", "text", []string{"4111 1111 1111 1111", "5500-0000-0000-0004", "340000000000009", "6011000000000004", "4012888888881881"}}, "payment card 0.84"},
		{"long numbers are no cards", Column{"t", "n", "text", []string{"4111111111111112", "4111111111111113", "4111111111111115", "4111111111111117", "4111111111111119"}}, ""},
		{"a latitude", Column{"boreholes", "latitude", "double precision", []string{"54.1", "55.25", "53.9", "54.7", "54.3"}}, "latitude 0.79"},
		{"numbers that could be one prove nothing", Column{"boreholes", "depth_m", "double precision", []string{"54.1", "55.25", "53.9", "54.7", "54.3"}}, ""},
		{"a person's name", Column{"holders", "contact_name", "text", []string{"Ada Ashdown", "Brin O'Neill", "Kit van Loon", "Juno Hale", "Isko Bell"}}, "name of a person 0.7"},
		{"a date of birth", Column{"t", "birthDate", "date", []string{"1980-01-01"}}, "date of birth 0.8"},
		{"a date that is none", Column{"t", "drilled_on", "date", []string{"1980-01-01"}}, ""},
		{"a tax number", Column{"holders", "tax_number", "text", nil}, "tax number 0.7"},
		{"network addresses", Column{"t", "source", "text", []string{"10.0.0.1", "192.168.1.7", "::1", "2001:db8::7", "172.16.0.3"}}, "network address 0.9"},
		{"money", Column{"boreholes", "cost", "double precision", nil}, "amount of money 0.55"},
		{"a word within a word is none", Column{"t", "emailed", "text", nil}, ""},
		{"nothing", Column{"t", "id", "bigint", []string{"1", "2", "3", "4", "5"}}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, p := range Look(c.column) {
				got = append(got, fmt.Sprintf("%s %v", p.Form, p.Confidence))
				for _, v := range c.column.Values {
					for _, e := range p.Evidence {
						if len(v) > 3 && strings.Contains(e, v) {
							t.Errorf("the evidence %q has a value in it", e)
						}
					}
				}
			}
			if s := strings.Join(got, ", "); s != strings.TrimSpace(c.want) {
				t.Errorf("got %q, want %q", s, c.want)
			}
		})
	}
}

func TestChecksums(t *testing.T) {
	for _, c := range []struct {
		check func(string) bool
		value string
		want  bool
	}{
		{ibanChecksum, "GB82WEST12345698765432", true}, {ibanChecksum, "GB82WEST12345698765433", false}, {ibanChecksum, "GB28WEST12345698765432", false},
		{luhn, "4111111111111111", true}, {luhn, "4111111111111121", false}, {luhn, "79927398713", true}, {luhn, "79927398710", false},
	} {
		if got := c.check(c.value); got != c.want {
			t.Errorf("the checksum of %s: %v", c.value, got)
		}
	}
}

func FuzzLook(f *testing.F) {
	f.Add("email", "text", "a@b.test")
	f.Add("bankAccount", "text", "GB82 WEST 1234 5698 7654 32")
	f.Add("ä", "double precision", "-0.")
	f.Fuzz(func(t *testing.T, name, typ, value string) {
		for _, p := range Look(Column{"t", name, typ, []string{value, value, value, value, value, value}}) {
			if p.Confidence < enough || p.Confidence > 1 || len(p.Evidence) == 0 {
				t.Errorf("%+v", p)
			}
		}
	})
}
