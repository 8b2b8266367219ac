package detect

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"inkret/core/catalog"
)

// telling are the words, and runs of words written together, that class a
// member by its name alone.
var telling = map[string]catalog.Class{}

func init() {
	for class, words := range map[catalog.Class][]string{
		catalog.Secret: {
			"password", "passwords", "passwd", "passwort", "pwd", "pass", "passphrase", "passcode", "pin", "pincode",
			"secret", "secrets", "clientsecret", "token", "tokens", "accesstoken", "refreshtoken", "authtoken",
			"bearertoken",
			"sessiontoken", "resettoken", "idtoken", "jwt", "apikey", "apikeys", "apisecret", "apitoken", "accesskey",
			"secretkey", "privatekey", "signingkey", "encryptionkey", "credential", "credentials", "sessionid",
			"sessionkey",
			"authorization", "otp", "totp", "totpsecret", "otpsecret", "mfasecret", "recoverycode", "recoverycodes",
			"backupcode",
			"backupcodes", "cvv", "cvc", "cvv2", "csc", "cardnumber", "creditcard", "creditcardnumber", "pan", "salt",
			"pwhash", "connectionstring", "securityanswer", "onetimecode", "magiclink", "webhooksecret", "pepper",
			"seedphrase",
			// other languages
			"kennwort", "geheimnis", "zugangscode", "wachtwoord", "toegangscode", "motdepasse", "mdp", "contrasena",
			"contraseña", "clave", "senha", "parolachiave",
			"losenord", "lösenord", "passord", "adgangskode", "salasana", "haslo", "hasło",
		},
		catalog.Personal: {
			"email", "emails", "mail", "emailaddress", "mailaddress", "phone", "phones", "phonenumber", "telephone",
			"telephonenumber", "mobile", "mobilenumber", "mobilephone", "cellphone", "fax", "faxnumber", "birthdate",
			"dateofbirth",
			"dob", "birthday", "birthplace", "placeofbirth", "ssn", "socialsecurity", "socialsecuritynumber",
			"nationalid",
			"nationalnumber", "nationalinsurancenumber", "nino", "passport", "passportnumber", "drivinglicence",
			"drivinglicense", "driverslicense", "taxid", "taxnumber", "iban", "bankaccount", "accountnumber",
			"bankaccountnumber",
			"firstname", "lastname", "surname", "fullname", "middlename", "maidenname", "givenname", "familyname",
			"address",
			"homeaddress", "postaladdress", "streetaddress", "billingaddress", "shippingaddress", "mailingaddress",
			"street",
			"postcode", "postalcode", "zipcode", "gender", "nationality", "religion", "ethnicity", "maritalstatus",
			"ipaddress", "medicalnotes", "salary", "income", "tel", "fname", "lname", "bday", "homephone", "workphone",
			"privatephone",
			"emergencycontact", "nextofkin", "bloodtype", "disability", "macaddress",
			// other languages
			"telefon", "telefonnummer", "handy", "handynummer", "adresse", "anschrift", "strasse", "straße",
			"postleitzahl", "plz", "geburtsdatum",
			"geburtstag", "geburtsort", "vorname", "nachname", "steuernummer", "steuerid", "kontonummer",
			"sozialversicherungsnummer", "ausweisnummer",
			"telefoon", "telefoonnummer", "adres", "geboortedatum", "voornaam", "achternaam", "bsn", "rekeningnummer",
			"straat",
			"courriel", "naissance", "datenaissance", "datedenaissance", "prenom", "prénom", "nomdefamille",
			"codepostal", "rue",
			"correo", "correoelectronico", "telefono", "teléfono", "direccion", "dirección", "fechanacimiento",
			"fechadenacimiento", "apellido", "apellidos", "dni", "nie",
			"codicefiscale", "indirizzo", "cognome", "datadinascita", "cellulare", "endereco", "endereço", "telefone",
			"datanascimento", "sobrenome", "cpf",
			"personnummer", "fodselsnummer", "fødselsnummer", "pesel", "nazwisko", "etternavn", "fornavn", "hetu",
			"henkilotunnus",
		},
	} {
		for _, w := range words {
			telling[w] = class
		}
	}
}

// carrying words may follow a telling one and leave its meaning as it is:
// password_hash is as much a secret as password.
var carrying = map[string]bool{}

// reversing words before a telling one, or after it, make it say something
// about the thing instead of being it: has_phone, public_key, token_count.
var reversing = map[string]bool{}

func init() {
	for _, w := range []string{"hash", "hashed", "digest", "encrypted", "enc", "cipher", "plain", "plaintext", "clear",
		"cleartext",
		"raw", "value", "number", "no", "nr", "string", "text", "salt", "hex", "base64", "b64", "primary", "secondary",
		"private",
		"home", "work", "old", "new", "current", "previous", "line", "bcrypt", "scrypt", "argon2", "sha256", "sha512",
		"md5", "sha1"} {
		carrying[w] = true
	}
	for _, w := range []string{"has", "is", "can", "needs", "requires", "require", "allow", "allows", "allowed", "show",
		"hide", "hides",
		"public", "no", "without", "with", "num", "count", "csrf", "xsrf", "next", "page", "continuation", "cursor",
		"must", "use", "uses",
		"mac", "web", "max", "min"} {
		reversing[w] = true
	}
}

const (
	maxNameWords  = 12 // longer names are prose, not names
	maxNameLength = 96
)

// Name classes a member name that tells what it holds by itself, whatever its
// casing: passwordHash, password_hash and PASSWORD-HASH alike. It gives
// [catalog.Unclassed] for a name that does not tell.
func Name(name []byte) catalog.Class {
	if len(name) > maxNameLength || len(name) < 2 {
		return catalog.Unclassed
	}
	var room [maxNameWords]string
	words := Words(room[:0], name)
	if len(words) > maxNameWords {
		return catalog.Unclassed
	}
	found := catalog.Unclassed
	for from := range words {
		if reversing[words[from]] {
			return catalog.Unclassed
		}
		joined := ""
		for to := from; to < len(words) && to < from+4; to++ {
			joined += words[to]
			class := max(telling[joined], telling[strings.TrimRight(joined, "0123456789")])
			if class > found && carries(words[to+1:]) {
				found = class
			}
		}
	}
	return found
}

// carries reports whether all words leave the meaning of what is before them.
func carries(words []string) bool {
	for _, w := range words {
		if !carrying[w] && telling[w] == catalog.Unclassed && !number(w) {
			return false
		}
	}
	return true
}

func number(w string) bool {
	for _, c := range w {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// Words appends the words of a name in lower case: split at anything that is
// neither letter nor digit, and where the case changes (userID, HTTPServer).
func Words(dst []string, name []byte) []string {
	var word []byte
	flush := func() {
		if len(word) > 0 {
			dst = append(dst, string(word))
			word = word[:0]
		}
	}
	var before rune
	for i := 0; i < len(name); {
		r, n := utf8.DecodeRune(name[i:])
		next, _ := utf8.DecodeRune(name[i+n:])
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
		default:
			if unicode.IsUpper(r) && (unicode.IsLower(before) || unicode.IsDigit(before) || unicode.IsUpper(before) &&
				unicode.IsLower(next)) {
				flush()
			}
			word = utf8.AppendRune(word, unicode.ToLower(r))
		}
		before, i = r, i+n
	}
	flush()
	return dst
}
