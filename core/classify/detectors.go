package classify

import (
	"net/mail"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

var (
	texts   = []string{"text"}
	numbers = []string{"double precision", "bigint"}
)

const (
	internal     = "internal"
	confidential = "confidential"
	restricted   = "restricted"
)

// detectors are all forms that are looked for.
var detectors = []detector{
	{
		form:    "e-mail address",
		topic:   Contact,
		level:   confidential,
		types:   texts,
		names:   []string{"email", "e_mail", "mail"},
		not:     []string{"mail_code", "subject"},
		byName:  0.6,
		has:     isEmail,
		byValue: 0.9,
		says:    "have the form of an e-mail address",
	},
	{
		form:    "telephone number",
		topic:   Contact,
		level:   confidential,
		types:   texts,
		names:   []string{"phone", "telephone", "tel", "mobile", "fax", "cell"},
		byName:  0.6,
		has:     isPhone,
		byValue: 0.5,
		says:    "have the form of a telephone number",
	},
	{
		form:   "postal address",
		topic:  Contact,
		level:  confidential,
		types:  texts,
		names:  []string{"address", "street", "postcode", "zip", "postal_code"},
		not:    []string{"ip", "email", "mac", "web"},
		byName: 0.6,
	},
	{form: "name of a person", topic: Person, level: confidential, types: texts,
		names: []string{
			"contact_name",
			"full_name",
			"first_name",
			"last_name",
			"given_name",
			"family_name",
			"surname",
			"forename",
			"person",
			"employee",
			"patient",
			"customer_name",
		},
		byName: 0.6, has: isPersonName, byValue: 0.3, says: "have the form of a person's name"},
	{
		form:   "date of birth",
		topic:  Person,
		level:  restricted,
		types:  []string{"date", "timestamp", "text"},
		names:  []string{"birth", "dob", "born", "birthday", "birthdate"},
		byName: 0.8,
	},
	{form: "gender", topic: Person, level: restricted, names: []string{"gender", "sex"}, byName: 0.7},
	{
		form:   "health",
		topic:  Person,
		level:  restricted,
		names:  []string{"diagnosis", "disability", "illness", "medication", "blood_type"},
		byName: 0.7,
	},
	{
		form:       "bank account (IBAN)",
		topic:      Finance,
		level:      restricted,
		types:      texts,
		names:      []string{"iban", "bank_account", "account_number", "bank"},
		byName:     0.6,
		has:        isIBAN,
		checked:    ibanChecksum,
		byValue:    0.5,
		byChecksum: 0.9,
		says:       "have the form of an IBAN",
	},
	{
		form:       "payment card",
		topic:      Finance,
		level:      restricted,
		names:      []string{"card_number", "card", "pan", "credit_card"},
		not:        []string{"postcard", "score"},
		byName:     0.5,
		has:        isCard,
		checked:    luhn,
		byValue:    0.2,
		byChecksum: 0.8,
		says:       "have the form of a payment card's number",
	},
	{form: "tax number", topic: Identity, level: restricted, names: []string{"tax_number", "tax_id", "vat", "vat_number", "tin"}, byName: 0.7},
	{
		form:   "number of an identity document",
		topic:  Identity,
		level:  restricted,
		names:  []string{"passport", "national_id", "identity_number", "id_card", "social_security", "ssn", "driving_licence", "licence_plate"},
		byName: 0.75,
	},
	{form: "network address", topic: Identity, level: confidential, types: texts, names: []string{"ip", "ip_address", "client_ip"}, byName: 0.4,
		has: isIP, byValue: 0.9, says: "have the form of a network address"},
	{form: "salary", topic: Finance, level: restricted, types: numbers, names: []string{"salary", "wage", "income", "bonus", "payroll"}, byName: 0.8},
	{
		form:   "amount of money",
		topic:  Commercial,
		level:  internal,
		types:  numbers,
		names:  []string{"cost", "price", "amount", "budget", "revenue", "margin", "fee", "royalty"},
		byName: 0.55,
	},
	{form: "latitude", topic: Position, level: confidential, types: numbers, names: []string{"latitude", "lat"}, byName: 0.7,
		has: within(90), byValue: 0.3, says: "can be a latitude"},
	{form: "longitude", topic: Position, level: confidential, types: numbers, names: []string{"longitude", "lon", "lng", "long"}, byName: 0.7,
		has: within(180), byValue: 0.3, says: "can be a longitude"},
	{
		form:    "position",
		topic:   Position,
		level:   confidential,
		types:   texts,
		names:   []string{"position", "coordinates", "location", "geom", "wkt"},
		byName:  0.3,
		has:     isPosition,
		byValue: 0.9,
		says:    "have the form of a position",
	},
}

// within reports whether a value is a number no farther from zero than most.
// Whole numbers count only with a fraction somewhere: every identifier would do.
func within(most float64) func(string) bool {
	return func(s string) bool {
		x, err := strconv.ParseFloat(s, 64)
		return err == nil && x >= -most && x <= most && strings.Contains(s, ".")
	}
}

func isEmail(s string) bool {
	a, err := mail.ParseAddress(s)
	if err != nil || a.Address != s {
		return false
	}
	_, domain, _ := strings.Cut(s, "@")
	return strings.Contains(domain, ".")
}

var phone = regexp.MustCompile(`^\+?[0-9(][0-9 ()./-]{5,24}$`)

func isPhone(s string) bool {
	n := len(digits(s))
	return phone.MatchString(s) && n >= 7 && n <= 15 && (strings.HasPrefix(s, "+") || strings.ContainsAny(s, " ()-/"))
}

var personName = regexp.MustCompile(`^(\p{Lu}[\p{L}'’.-]*\s){1,3}\p{Lu}[\p{L}'’-]+$`)

func isPersonName(s string) bool { return personName.MatchString(s) }

func isIP(s string) bool {
	_, err := netip.ParseAddr(s)
	return err == nil
}

var (
	degrees = regexp.MustCompile(`^[-+]?\d{1,2}\.\d+[,; ]\s*[-+]?\d{1,3}\.\d+$`)
	point   = regexp.MustCompile(`^(?i:SRID=\d+;)?(?i:POINT)\s*Z?\s*\(`)
)

func isPosition(s string) bool { return degrees.MatchString(s) || point.MatchString(s) }

var iban = regexp.MustCompile(`^[A-Z]{2}[0-9]{2}[A-Z0-9]{11,30}$`)

func isIBAN(s string) bool { return iban.MatchString(strings.ReplaceAll(s, " ", "")) }

// ibanChecksum is the check of ISO 13616 by ISO/IEC 7064, MOD 97-10.
func ibanChecksum(s string) bool {
	s = strings.ReplaceAll(s, " ", "")
	rest := 0
	for _, c := range s[4:] + s[:4] {
		if c >= 'A' {
			rest = (rest*100 + int(c-'A') + 10) % 97
		} else {
			rest = (rest*10 + int(c-'0')) % 97
		}
	}
	return rest == 1
}

func isCard(s string) bool {
	d := digits(s)
	return len(d) >= 13 && len(d) <= 19 && strings.Trim(s, "0123456789 -") == "" && d[0] >= '2' && d[0] <= '6'
}

// luhn is the check of ISO/IEC 7812-1, annex B.
func luhn(s string) bool {
	sum := 0
	d := digits(s)
	for i := range d {
		n := int(d[len(d)-1-i] - '0')
		if i%2 == 1 {
			if n *= 2; n > 9 {
				n -= 9
			}
		}
		sum += n
	}
	return sum%10 == 0
}

func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}
