package strength

import "strings"

// wordBits is the cost of an everyday word: one of some thousand.
const wordBits = 11

// common are passwords and parts of passwords that guessers try first, in about that order.
var common = folded(`password 123456 qwerty admin welcome letmein iloveyou dragon monkey football baseball master sunshine princess shadow
superman batman trustno1 hello freedom whatever secret login passwort geheim hallo schatz test guest root user changeme default
pass access abc123 starwars computer internet server hosting website domain mail email webmail hostmaster webmaster postmaster
summer winter spring autumn sommer winter herbst london berlin paris january february march april may june july august september
october november december monday friday sunday mustang michael jordan thomas andrew daniel charlie george jessica ashley nicole
killer hunter soccer hockey ranger buster pepper ginger cookie cheese banana orange flower lovely forever angel money business
company office manager demo temp temporary private personal family mother father sister brother customer service support
backup database mysql oracle linux windows apple google samsung nothing something system network wireless router cisco letme
backup1 q1w2e3r4 1q2w3e4r zaq12wsx asdf qwer pokemon matrix phoenix merlin diamond silver golden purple yellow maggie bailey
harley chelsea liverpool arsenal barcelona juventus bayern schalke dortmund blink182 metallica nirvana slipknot`)

// words are everyday words; a password of several of them is as good as
// their number, not as their letters.
var words = folded(`about after again animal answer around beach beautiful because before begin better between black blue board boat book bottom
bread break bridge bright bring brown build camera candle carry castle center chair change child church circle city class clean clear
cloud coast coffee color corner correct country cover cream dance danger dark daughter dear deep desert dinner doctor dollar door dream
dress drink drive early earth eight engine every example family famous farm fast field fight final finger fire first fish flag floor
fly follow food forest fresh friend front fruit garden glass gold good grand grass great green ground group guitar hair hand happy
harbour hard heart heavy help high hill home honey horse hospital hotel house human hundred hurry island jacket jump kitchen knife lady lake
language large last laugh leader learn leave letter level light line lion listen little long love machine magic main market medicine
memory metal middle milk million minute mirror modern moment moon morning mountain mouse music nature never night north number ocean
open orange order other paint paper party peace pencil people perfect phone photo piano picture pilot planet plant plastic player point
police power present pretty prince problem queen question quick quiet radio rain reader ready river road rock room round sailor salt
sand school science sea season second seven shop short silver simple singer small smile snow soft soldier song south space special speed
stone storm story strange street strong student sugar summer sun sweet table teacher thing think thousand three tiger time today
together tomorrow tower town travel tree trouble truck true under unit valley village voice wait walk wall warm watch water weather
week west wheel white wild wind window wine woman wonder wood word work world write year yellow young staple battery horse`)

// folded splits words and folds them as passwords are, the longest of
// those with the same beginning counting by themselves.
func folded(text string) []string {
	list := strings.Fields(text)
	for i := range list {
		list[i] = fold(list[i])
	}
	return list
}
