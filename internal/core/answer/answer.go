// Package answer tells what somebody says in a letter from what they quote in
// it.
//
// No standard says how a quotation is marked. What is known: lines that begin
// with > (RFC 3676, 4.5), the line with which programs begin a quotation ("On
// … wrote:"), the rules and the head of the quoted letter that others put before
// it, in the languages below; common practice, no source. Nothing is ever lost:
// where in doubt it is said, and the whole letter stays beside it.
package answer

import (
	"regexp"
	"strings"
)

// A quotation is looked for in so many bytes of a letter, since what people say
// stands first, and among so many lines that could lead to one; what follows is
// said. A line that leads to one is no longer than this.
const (
	maxText  = 40_000
	maxLeads = 100
	maxLead  = 500
)

// wrote are the words with which the line before a quotation ends, before its
// colon, or begins: in English, German, French, Spanish, Portuguese, Italian,
// Dutch, Norwegian and Danish, Swedish, Finnish, Polish, Czech, Hungarian, Turkish,
// Russian, Ukrainian, Japanese, Chinese and Korean.
const wrote = `wrote|writes|schrieb(?:en)?|geschrieben|schreibt|a écrit|écrivait|escribió|escribio|escreveu|ha ` +
	`scritto|scrisse|schreef|geschreven|skrev|skreiv|kirjoitti|napisał\(a\)|napisał|napisała|pisze|napsal\(a\)|` +
	`napsal|napsala|írta|şunu yazdı|yazdı|написал\(а\)|написал|написала|пишет|написав|さんは書きました|のメール|写道|님이 작성`

// opens are the words that begin such a line.
const opens = `on|am|le|el|em|il|op|den|på|ma|dnia|w dniu|dne|v|den|på|fre|lør|søn|man|tir|ons|tor|lör|sön|mån|tis|` +
	`pe|la|su|mon|tue|wed|thu|fri|sat|sun|\d`

// original are what rules say that stand before a quoted letter.
const original = `original message|original appointment|forwarded message|begin forwarded message|reply message|` +
	`ursprüngliche nachricht|original-nachricht|originalnachricht|weitergeleitete nachricht|message d'origine|` +
	`message d’origine|message original|message transféré|mensaje original|mensaje reenviado|mensagem original|` +
	`mensagem encaminhada|messaggio originale|messaggio inoltrato|oorspronkelijk bericht|oorspronkelijke bericht|` +
	`doorgestuurd bericht|opprinnelig melding|opprindelig meddelelse|oprindelig meddelelse|videresendt melding|` +
	`ursprungligt meddelande|originalmeddelande|alkuperäinen viesti|wiadomość oryginalna|oryginalna wiadomość|` +
	`původní zpráva|eredeti üzenet|orijinal mesaj|исходное сообщение|пересылаемое сообщение|元のメッセージ|原始邮件|원본 메시지`

// Words of the head of a quoted letter: whom it is from, and the lines that follow.
const (
	headFrom = `from|von|de|da|van|fra|från|lähettäjä|od|feladó|kimden|от|від|差出人|送信者|发件人|보낸 사람`
	headRest = `sent|date|to|cc|subject|gesendet|datum|an|betreff|envoyé|date|à|objet|enviado(?: el)?|enviada(?: ` +
		`em)?|fecha|data|para|asunto|assunto|inviato|a|oggetto|verzonden|aan|onderwerp|sendt|til|emne|skickat|till|` +
		`ämne|lähetetty|vastaanottaja|aihe|wysłano|do|temat|odesláno|komu|předmět|elküldve|címzett|tárgy|gönderilen|` +
		`tarih|kime|konu|отправлено|дата|кому|тема|送信日時|日時|宛先|件名|发送时间|收件人|主题|보낸 날짜|받는 사람|제목`
)

var (
	attribution = regexp.MustCompile(`(?i)^\W{0,3}(?:` + opens + `)\b.{6,300}(?:` + wrote + `)[^\n:：]{0,80}[:：]\s*$`)
	named       = regexp.MustCompile(`(?i)^.{0,200}<[^<>\s]+@[^<>\s]+>.{0,80}(?:` + wrote + `)?.{0,60}[:：]\s*$`)
	bare        = regexp.MustCompile(`(?i)^.{2,200}\d.{0,200}(?:` + wrote + `)\s?[:：]\s*$`)
	ruled       = regexp.MustCompile(`(?i)^[\s>]*[-_=*]{2,}\s*(?:` + original + `)\s*[-_=*]*\s*:?\s*$`)
	plainRule   = regexp.MustCompile(
		`(?i)^(?:begin forwarded message|anfang der weitergeleiteten nachricht|début du message transféré|inizio ` +
			`messaggio inoltrato)\s*:\s*$`)
	marks = regexp.MustCompile(`(?m)^[ \t]*>.*$\n?`)
	line  = regexp.MustCompile(`^[_\-=]{8,}$`)
	from  = regexp.MustCompile(`(?i)^[*_]?(?:` + headFrom + `)[*_]?\s?[:：][*_]?\s*\S`)
	rest  = regexp.MustCompile(`(?i)^[*_]?(?:` + headRest + `)[*_]?\s?[:：][*_]?`)
)

// Said is what is said in a letter's text, without what it quotes. A letter that
// says nothing but what it quotes, or answers within the quotation with nothing
// of its own, is answered whole.
func Said(text string) string {
	whole := strings.TrimSpace(strings.ReplaceAll(text, "\r\n", "\n"))
	looked, after := whole, ""
	if len(whole) > maxText {
		if end := strings.LastIndexByte(whole[:maxText], '\n'); end >= 0 {
			looked, after = whole[:end], marks.ReplaceAllString(whole[end:], "")
		} else {
			return whole
		}
	}
	lines := strings.Split(looked, "\n")
	var said []string
	leads := 0
	for i := 0; i < len(lines); i++ {
		l := strings.TrimSpace(strings.TrimRight(lines[i], "\u00a0"))
		if strings.HasPrefix(l, ">") {
			continue
		}
		if n := attributed(lines, i, &leads); n > 0 {
			if marked(lines, i+n) {
				i += n - 1 // what it quotes is marked line by line, and more may be said below
				continue
			}
			after = ""
			break
		}
		if l != "" && len(l) <= maxLead && (ruled.MatchString(l) || plainRule.MatchString(l) || head(lines, i)) {
			after = ""
			break
		}
		said = append(said, lines[i])
	}
	for after == "" && len(said) > 0 { // a rule that led to the quotation is none of it
		last := strings.TrimSpace(said[len(said)-1])
		if last != "" && !line.MatchString(last) {
			break
		}
		said = said[:len(said)-1]
	}
	out := strings.TrimSpace(strings.Join(said, "\n") + after)
	if out == "" {
		return whole
	}
	return out
}

// attributed is how many lines from i on are the one that leads to a quotation,
// as it is wrapped: at most three. 0: none. leads counts those that could be.
func attributed(lines []string, i int, leads *int) int {
	joined := ""
	for n := 1; n <= 3 && i+n <= len(lines); n++ {
		l := strings.TrimSpace(lines[i+n-1])
		if l == "" || strings.HasPrefix(l, ">") {
			return 0
		}
		joined = strings.TrimSpace(joined + " " + l)
		if len(joined) > maxLead {
			return 0
		}
		if !strings.HasSuffix(joined, ":") && !strings.HasSuffix(joined, "：") {
			continue
		}
		if *leads++; *leads > maxLeads {
			return 0
		}
		if attribution.MatchString(joined) || bare.MatchString(joined) {
			return n
		}
		// Whatever the language: an address, a colon, and a quotation.
		if named.MatchString(joined) && marked(lines, i+n) {
			return n
		}
		return 0
	}
	return 0
}

// marked reports whether the next line that is not empty, from i on, is marked
// as quoted.
func marked(lines []string, i int) bool {
	for ; i < len(lines); i++ {
		if l := strings.TrimSpace(lines[i]); l != "" {
			return strings.HasPrefix(l, ">")
		}
	}
	return false
}

// head reports whether the head of a quoted letter begins at line i: whom it is
// from, and at least two more lines of the kind among the next five, or one
// after a rule.
func head(lines []string, i int) bool {
	if !from.MatchString(strings.TrimSpace(lines[i])) {
		return false
	}
	need := 2
	if i > 0 && line.MatchString(strings.TrimSpace(lines[i-1])) {
		need = 1
	}
	for _, l := range lines[i+1 : min(i+6, len(lines))] {
		if rest.MatchString(strings.TrimSpace(l)) {
			need--
		}
	}
	return need <= 0
}
