package detect

import (
	"strings"

	"inkret/core/catalog"
)

// vocabulary lists the telling names by the form of their values, as joined words in small letters without accents.
// Compounds of two lists stand with a bar between them. New groups come last: stand-ins name them by position, and
// are stored. Health, beliefs, origin and the like are the special categories of GDPR article 9.
var vocabulary = []struct {
	class     catalog.Class
	form      form
	words     string
	compounds []string
}{
	{catalog.Secret, passwordForm, `
		password passwd pwd pass passphrase secret clientsecret apisecret webhooksecret pepper seedphrase recoveryphrase
		backupphrase secretphrase mnemonic mnemonicphrase securityanswer secretanswer memorableword memorableanswer
		credential connectionstring totpsecret otpsecret mfasecret totpseed otpseed pwhash psk presharedkey
		passwort kennwort geheimnis geheimwort wachtwoord motdepasse motpasse mdp phrasesecrete contrasena
		frasesecreta senha palavrapasse palavrasecreta parolasegreta losenord passord adgangskode kodeord
		salasana tunnussana haslo`, nil},
	{catalog.Secret, codeForm, `
		passcode pin pincode otp totp onetimecode onetimepassword authcode geheimzahl geheimnummer mtan cardcode
		transactionauthnumber transactionauthenticationnumber codepin codicepin kodpin
		zugangscode bestaetigungscode bestatigungscode sicherheitscode aktivierungscode freischaltcode tuercode turcode
		wiederherstellungscode toegangscode bevestigingscode beveiligingscode activatiecode herstelcode verificatiecode
		aterstallningskod verifieringskod sakerhetskod engangskod atkomstkod portkod aktiveringskod
		engangskode bekreftelseskode sikkerhetskode gjenopprettingskode tilgangskode aktiveringskode
		bekraeftelseskode bekraftelseskode sikkerhedskode gendannelseskode
		vahvistuskoodi turvakoodi kertakayttokoodi palautuskoodi paasykoodi ovikoodi
		kodweryfikacyjny koddostepu kodbezpieczenstwa kodaktywacyjny kododzyskiwania koddodrzwi`, []string{
		`verification confirmation activation authentication access security secret login signin sms mfa twofactor 2fa
		recovery backup rescue scratch reset unlock pairing join invite invitation enrolment enrollment door gate
		entry entrance locker safe keysafe keybox lockbox gift giftcard redemption pickup parental onetime | code codes pin passcode`,
		`code codede codedacces coded | acces secret confirmation verification activation securite recuperation
		reinitialisation`,
		`codigo codigode | acceso verificacion confirmacion seguridad secreto activacion recuperacion acesso verificacao
		confirmacao seguranca ativacao recuperacao`,
		`codice codicedi | accesso verifica conferma sicurezza segreto attivazione recupero`}},
	{catalog.Secret, keyForm, `
		token jwt apikey apitoken signingkey salt magiclink authorization authorizationcode bearer codeverifier
		clientassertion samlresponse samlassertion sessionid sessid jsessionid sharedaccesssignature sassignature
		pinblock keymaterial passkey parolachiave
		zugriffstoken zugangstoken apischluessel apischlussel privatschluessel privatschlussel geheimschluessel
		geheimschlussel zugangsschluessel zugangsschlussel signaturschluessel signaturschlussel sitzungsschluessel
		sitzungsschlussel sitzungsid toegangstoken toegangssleutel apisleutel sessiesleutel privesleutel
		jeton jetonacces jetondacces jetonsession jetondesession
		tokenacceso tokendeacceso tokenacesso tokendeacesso tokenaccesso gettone gettoneaccesso
		apinyckel atkomstnyckel atkomsttoken apinokkel tilgangsnokkel tilgangstoken apinogle adgangsnogle adgangstoken
		apiavain kayttoavain istuntoavain istuntotunnus kluczapi kluczdostepu zeton zetondostepu`, []string{
		`auth session login | ticket cookie`,
		`cle clef | api secrete privee acces dacces session chiffrement`,
		`clave clavede llave | api privada secreta acceso sesion cifrado`,
		`chave chavede | api privada secreta acesso sessao`,
		`chiave chiavedi | api privata segreta accesso sessione`,
		`privater geheimer | schluessel schlussel`, `geheime prive | sleutel`,
		`hemlig privat | nyckel`, `hemmelig privat | nokkel nogle`, `salainen yksityinen | avain`,
		`klucz | prywatny tajny`, `tajny prywatny | klucz`}},
	{catalog.Secret, checkForm, `cvv cvc cvv2 cvc2 csc cardsecuritycode cvvcode cvccode cardverificationvalue
		cardverificationcode pruefziffer kartenpruefnummer codicesicurezzacarta`, nil},
	{catalog.Secret, cardForm, `
		cardnumber creditcard creditcardnumber debitcardnumber debitcard ccnumber pan primaryaccountnumber cardpan
		kartennummer kreditkartennummer kreditkarte kaartnummer creditcardnummer numerocarte
		numerodecarte numerotarjeta numerodetarjeta numerocartao numerodocartao numerocarta numerodicarta kortnummer
		kortinnumero korttinumero numerkarty`, nil},
	{catalog.Personal, mailForm, `
		email mail emailaddress mailaddress courriel correo correoelectronico mailadresse emailadresse emailadres
		mailadres epost eposta epostadress epostadresse sahkoposti sahkopostiosoite adressemail adresseemail
		adressecourriel adresseelectronique adresemail direccioncorreo emailadress postaelettronica indirizzoemail
		enderecoemail enderecodeemail poczta`, nil},
	{catalog.Personal, phoneForm, `
		phone phonenumber telephone telephonenumber mobile mobilenumber mobilephone cellphone cellnumber fax faxnumber tel
		homephone workphone privatephone landline contactnumber callernumber msisdn whatsapp whatsappnumber
		telefon telefonnummer handy handynummer mobil mobilnummer mobiltelefon rufnummer festnetz telefoon telefoonnummer
		mobiel mobielnummer telefono movil celular cellulare telefone telemovel numerotelephone numerodetelephone
		telephoneportable numerotelefono numerodetelefono numeroditelefono numerocellulare numerotelefone
		numerodetelefone telefonomovil tlf tlfnummer tlfnr puhelin puhelinnumero matkapuhelin numertelefonu
		telefonkomorkowy`, nil},
	{catalog.Personal, birthForm, `
		birthdate dateofbirth dob birthday bday birth birthyear yearofbirth born bornon borndate
		geburtsdatum geburtstag geburtsjahr gebdatum gebdat geboortedatum geboortedag geboortejaar
		naissance datenaissance datedenaissance anneenaissance nacimiento fechanacimiento fechadenacimiento fnacimiento
		nascita datanascita datadinascita annonascita nascimento datanascimento datadenascimento anonascimento
		fodelsedatum fodelsedag fodelsear fodselsdato fodselsdag foedselsdato fodselsar syntymaaika syntymapaiva
		syntymavuosi dataurodzenia rokurodzenia`, nil},
	{catalog.Personal, identForm, `
		ssn socialsecurity nationalid nino passport passportid drivinglicence drivinglicense driverlicense driverslicense
		driverslicence driverlicence licencenumber licensenumber taxid taxnumber iban bankaccount accountnumber sortcode
		routingnumber itin aadhaar curp nif nss bvn imei imsi licenseplate licenceplate numberplate platenumber
		vehicleregistration identitycard idcard voterid citizenid
		steuernummer steuerid steueridentifikationsnummer kontonummer sozialversicherungsnummer svnummer
		versichertennummer krankenversicherungsnummer rentenversicherungsnummer ausweisnummer personalausweisnummer
		personalausweis reisepassnummer reisepass passnummer fuehrerscheinnummer fuhrerscheinnummer fuehrerschein
		fuhrerschein kfzkennzeichen autokennzeichen bankverbindung
		bsn burgerservicenummer rekeningnummer bankrekening paspoortnummer paspoort rijbewijsnummer rijbewijs kenteken
		numerosecuritesociale numerodesecuritesociale numsecu numsecuritesociale numeropasseport numerodepasseport
		passeport numerofiscal immatriculation numerocompte numerodecompte comptebancaire permisdeconduire
		dni nie numeropasaporte numerodepasaporte pasaporte numeroseguridadsocial numerodeseguridadsocial nuss numerocuenta
		numerodecuenta cuentabancaria
		cpf nifnumero numerocontribuinte cartaocidadao numeropassaporte numerodopassaporte passaporte numeroconta
		contabancaria
		codicefiscale numerodipassaporte passaporto cartaidentita cartadidentita tesserasanitaria numeroconto
		contocorrente patentediguida
		personnummer samordningsnummer bankkonto fodselsnummer cpr cprnummer pasnummer pesel hetu henkilotunnus
		passinnumero tilinumero numerdowodu dowodosobisty numerpaszportu paszport numerkonta kontobankowe`, []string{
		`insurance healthinsurance nationalinsurance socialinsurance socialsecurity medicalrecord healthrecord
		patientrecord passport visa taxpayer taxidentification taxresidency taxreference identity identitycard
		personalidentification idcard national nationalid nationalidentity nationalidentification citizen voter driverlicense
		drivinglicence drivinglicense driverslicense driverlicence licenseplate licenceplate frequentflyer
		vehicleregistration bankaccount residencepermit workpermit healthcard medicare nhs ni ssn | number`}},
	{catalog.Personal, nameForm, `
		firstname lastname surname fullname middlename maidenname givenname familyname fname lname namefirst namelast
		namefull realname legalname birthname nextofkin emergencycontact birthplace placeofbirth
		vorname vornamen nachname familienname geburtsname maedchenname madchenname geburtsort kontoinhaber karteninhaber
		voornaam voornamen achternaam familienaam meisjesnaam volledigenaam geboorteplaats
		prenom nomdefamille nomfamille nomcomplet nometprenom nomjeunefille lieunaissance lieudenaissance
		apellido nombrecompleto nombreyapellido primerapellido segundoapellido lugarnacimiento lugardenacimiento
		sobrenome nomecompleto nomemae nomedamae localnascimento cognome nomecognome nomeecognome luogonascita
		luogodinascita fornamn efternamn fullstandigtnamn fodelseort fornavn etternavn efternavn fulltnavn fuldenavn
		fodested etunimi sukunimi kokonimi syntymapaikka imie nazwisko imienazwisko imieinazwisko miejsceurodzenia`,
		[]string{`patient passenger guest traveller traveler tourist pupil student guardian tenant landlord guarantor
		cardholder accountholder policyholder insured consignee addressee applicant candidate petitioner beneficiary
		signatory signer employee worker rider payee purchaser debtor creditor spouse father mother respondent witness
		defendant claimant plaintiff victim suspect juror offender subscriber resident citizen attendee participant caller
		requester visitor borrower lender heir athlete caregiver carer skipper sailor captain doctor physician teacher
		voter contactperson | name fullname realname`}},
	{catalog.Personal, placeForm, `
		address homeaddress postaladdress streetaddress billingaddress shippingaddress mailingaddress street
		adresse anschrift wohnadresse wohnanschrift hausadresse lieferadresse rechnungsadresse strasse
		adres huisadres woonadres postadres bezorgadres straat straatnaam
		rue domicile adressepostale direccion domicilio calle endereco morada logradouro rua indirizzo residenza
		adress gatuadress hemadress bostadsadress gateadresse hjemmeadresse gadenavn vejnavn
		osoite katuosoite kotiosoite lahiosoite adreszamieszkania ulica`, nil},
	{catalog.Personal, postForm, `postcode postalcode zipcode postleitzahl plz codepostal codigopostal cep
		codicepostale postnummer postnr postinumero kodpocztowy`, nil},
	{catalog.Personal, wordsForm, `
		gender sex nationality citizenship religion ethnicity maritalstatus civilstatus familystatus occupation
		diagnosis diagnoses diagnosistext allergy allergies medication prescription illness disease sickness
		vaccination pregnancy smoker smokerstatus smokingstatus bloodtype bloodgroup disability disabilities
		impairment specialneeds hivstatus sexuality genderidentity tradeunion tradeunionmembership unionmembership
		criminalrecord criminalhistory conviction immigrationstatus privatenote
		geschlecht konfession staatsangehoerigkeit staatsangehorigkeit nationalitaet nationalitat familienstand
		krankenkasse diagnose diagnosen allergien blutgruppe behinderung krankheit krankheiten vorerkrankungen
		medikamente krankengeschichte
		geslacht godsdienst nationaliteit burgerlijkestaat allergieen bloedgroep ziekte medicatie
		sexe nationalite situationfamiliale situationmatrimoniale etatcivil diagnostic groupesanguin maladie maladies
		antecedentsmedicaux
		sexo nacionalidad estadocivil diagnostico gruposanguineo tiposangre tiposanguineo discapacidad enfermedad alergia
		historiaclinica historialmedico antecedentesmedicos nacionalidade religiao doenca historicomedico
		sesso nazionalita statocivile religione diagnosi grupposanguigno disabilita malattia allergie cartellaclinica
		nationalitet medborgarskap civilstand diagnos blodgrupp funktionsnedsattning sjukdom allergier
		kjonn sivilstatus statsborgerskap blodtype statsborgerskab sygdom sykdom
		sukupuoli kansalaisuus siviilisaaty diagnoosi veriryhma uskonto sairaus
		plec narodowosc obywatelstwo stancywilny diagnoza grupakrwi niepelnosprawnosc religia wyznanie choroba`,
		[]string{
			`medical clinical sickness sickleave injury disability illness mentalhealth patient allergy | note notes history
			condition conditions record records remark remarks reason detail details description needs comment comments
			summary issue issues`,
			`health | condition conditions history record records issue issues problem problems notes`,
			`political | view views party opinion opinions affiliation orientation belief beliefs`,
			`religious | view views belief beliefs affiliation`,
			`sexual | orientation preference preferences`,
			`ethnic racial | group origin background`,
			`drug alcohol substance tobacco | use abuse habits`,
			`private | remark remarks comment comments memo`}},
	{catalog.Personal, amountForm, `
		salary income wage netpay grosspay remuneration networth creditscore gehalt einkommen lohn salaris inkomen loon
		salaire revenu salario renda stipendio reddito inkomst inntekt lonn indkomst palkka tulot wynagrodzenie
		pensja dochod bodyweight bodyheight bodymassindex bmi bodyfat heartrate bloodpressure systolic diastolic
		bloodsugar bloodglucose menstrualcycleday`, nil},
	{catalog.Personal, addressForm, `
		ipaddress clientip userip loginip lastloginip signupip registrationip customerip visitorip remoteip lastip homeip
		respondentip callerip browserip payerip ipadresse ipadres adresseip direccionip enderecoip indirizzoip ipadress
		iposoite adresip macaddress macadresse hardwareaddress bluetoothaddress wifimac`, nil},
	{catalog.Personal, fullNameForm, `
		patient passenger tenant landlord guarantor cardholder accountholder policyholder beneficiary payee payer
		signatory signer addressee consignee recipient spouse contactperson responsibleperson person guardian kin
		titulaire titular intestatario rekeninghouder kortinnehavare kontohaver posiadacz ansprechpartner`, []string{
		`customer contact recipient receiver parent driver donor holder payer partner person billing billto shipto
		deliveryto | name fullname`}},
	{catalog.Secret, trackForm, `track1 track2 trackdata track1data track2data magstripe`, nil},
	{catalog.Secret, barredKeyForm, "", []string{`access api deploy deployment signing provisioning preshared encryption
		decryption master shared sharedaccess serviceaccount stream hmac session auth authentication authorization admin
		root private secret vault integrity cipher crypto drm | key`}},
	{catalog.Secret, drawnKeyForm, `clave`, []string{`account application client node device storage license licence
		product merchant registration enrolment enrollment consumer integration wallet cluster subscription host security
		webhook push ingest ssh | key`}},
}

// shortNumbers are what "number" at the end of a name is written as.
var shortNumbers = []string{"no", "nr", "num", "nbr"}

// tellingNames maps words, and runs of joined words, to what they say about a member.
func tellingNames() map[string]Telling {
	all := make(map[string]Telling, 4096)
	for i, group := range vocabulary {
		told := Telling{group.class, uint8(i), group.form}
		add := func(w string) {
			all[w] = told
			if !strings.HasSuffix(w, "s") {
				all[w+"s"] = told
			}
		}
		for _, w := range append(strings.Fields(group.words), joined(group.compounds)...) {
			add(w)
			if base, is := strings.CutSuffix(w, "number"); is && base != "" {
				for _, short := range shortNumbers {
					add(base + short)
				}
			}
		}
	}
	return all
}

// joined joins each word of the first list of a compound with each of the second.
func joined(compounds []string) (all []string) {
	for _, c := range compounds {
		first, second, _ := strings.Cut(c, "|")
		for _, a := range strings.Fields(first) {
			for _, b := range strings.Fields(second) {
				all = append(all, a+b)
			}
		}
	}
	return all
}

// plainLetters writes letters with accents as those without them.
var plainLetters = strings.NewReplacer("ä", "a", "á", "a", "à", "a", "â", "a", "ã", "a", "å", "a", "ą", "a", "æ", "ae",
	"ç", "c", "ć", "c", "č", "c", "é", "e", "è", "e", "ê", "e", "ë", "e", "ę", "e", "í", "i", "ì", "i", "î", "i",
	"ï", "i", "ł", "l", "ñ", "n", "ń", "n", "ö", "o", "ó", "o", "ò", "o", "ô", "o", "õ", "o", "ø", "o", "œ", "oe",
	"ś", "s", "š", "s", "ß", "ss", "ü", "u", "ú", "u", "ù", "u", "û", "u", "ż", "z", "ź", "z", "ž", "z")
