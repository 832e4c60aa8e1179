package people

import (
	"strings"
)

// commonPasswords are passwords of ten characters and more that are tried first.
var commonPasswords = map[string]bool{}

func init() {
	for p := range strings.FieldsSeq(`1234567890 0123456789 12345678910 123456789a 1234567891 0987654321 qwertyuiop qwerty12345 qwerty1234 1qaz2wsx3edc 1q2w3e4r5t
		q1w2e3r4t5 password12 password123 password1234 passwordpassword password01 passw0rd123 iloveyou12 iloveyou123 princess123 sunshine123 football123 baseball123
		welcome123 welcome1234 letmein123 administrator admin12345 admin123456 administrator1 abcdefghij abcdefghijk abc1234567 abcd123456 asdfghjkl1 asdfghjkl123 zxcvbnm123
		1111111111 0000000000 1212121212 1231231234 123123123123 987654321a 9876543210 changeme123 changeme1234 default123 trustno1234 superman123 dragon12345 monkey12345
		liverpool1 manchester computer123 internet123 michael123 jennifer123 charlie123 summer2024! summer2025! summer2026! winter2024! winter2025! winter2026! spring2026!
		autumn2026! password2024 password2025 password2026 qwertyuiop123 secret12345 testtest123 test123456 guest12345 master12345 starwars123 whatever123 freedom123
		correcthorsebatterystaple`) {
		commonPasswords[p] = true
	}
}
