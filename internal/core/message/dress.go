package message

import (
	"strings"

	nethtml "golang.org/x/net/html"
)

// Mail programs read little of a stylesheet: what matters is written onto each
// element, and tables hold the frame together. Only the dark scheme stands in a
// style element; programs that do not read it show the light one. (Common
// practice, no source.)

const (
	face  = "font-family:-apple-system,'Segoe UI',Helvetica,Arial,sans-serif"
	ink   = "#14232b"
	quiet = "#5b6b70"
	deep  = "#0b4f5c"
)

// looks are the styles of elements, by their name and class.
var looks = map[Style]map[string]string{
	Plain: {
		"p": "margin:0 0 16px", "div": "margin:0", "h1": "font-size:20px;line-height:1.3;margin:0 0 12px",
		"h2": "font-size:17px;line-height:1.3;margin:0 0 8px",
		"ul": "margin:0 0 16px;padding-left:22px", "ol": "margin:0 0 16px;padding-left:22px", "li": "margin:0 0 4px",
		"blockquote": "margin:0 0 16px;padding-left:14px;border-left:3px solid #a9cfc9",
		"cite":       "display:block;font-style:normal;color:" + quiet,
		"hr":         "border:0;border-top:1px solid #e3ded2;margin:20px 0",
		"img":        "display:block;max-width:100%;height:auto;border:0", "a": "color:" + deep,
		"pre": "white-space:pre-wrap;margin:0 0 16px",
	},
	Designed: {
		"p": "margin:0 0 18px", "div": "margin:0",
		"h1": "font-size:26px;line-height:1.25;margin:0 0 14px;color:" + deep,
		"h2": "font-size:19px;line-height:1.3;margin:0 0 10px;color:" + deep,
		"ul": "margin:0 0 18px;padding-left:22px", "ol": "margin:0 0 18px;padding-left:22px", "li": "margin:0 0 6px",
		"blockquote": "margin:0 0 18px;padding:14px 18px;background:#ddefe9;border-radius:8px;font-size:18px",
		"cite":       "display:block;font-style:normal;font-size:14px;color:" + quiet + ";margin-top:8px",
		"hr":         "border:0;border-top:2px solid #ddefe9;margin:24px 0",
		"img":        "display:block;width:100%;max-width:100%;height:auto;border:0;border-radius:8px",
		"a":          "color:" + deep,
		"a.button": "display:inline-block;background:" + deep +
			";color:#fffefb;text-decoration:none;font-weight:600;padding:12px 22px;border-radius:8px",
		"a.shelf": "color:" + deep + ";font-weight:600",
		"pre":     "white-space:pre-wrap;margin:0 0 18px",
	},
}

// dress writes a style onto each element and, where link is given, another
// target into each link of the web; it counts those from n on, and answers the
// next number.
func dress(src string, style Style, n int, link func(n int, target string) string) (string, int) {
	z := nethtml.NewTokenizer(strings.NewReader(src))
	var b strings.Builder
	for {
		if z.Next() == nethtml.ErrorToken {
			return b.String(), n
		}
		t := z.Token()
		if t.Type != nethtml.StartTagToken && t.Type != nethtml.SelfClosingTagToken {
			b.WriteString(t.String())
			continue
		}
		class := ""
		for i, a := range t.Attr {
			switch a.Key {
			case "class":
				class = a.Val
			case "href":
				if tracked(a.Val) {
					if link != nil {
						t.Attr[i].Val = link(n, a.Val)
					}
					n++
				}
			}
		}
		look := looks[style][t.Data+"."+class]
		if look == "" {
			look = looks[style][t.Data]
		}
		if look != "" {
			t.Attr = append(t.Attr, nethtml.Attribute{Key: "style", Val: look})
		}
		b.WriteString(t.String())
	}
}

// tracked reports whether a link is one whose presses are counted.
func tracked(target string) bool {
	return target != "" && target != OptOutLink && !strings.HasPrefix(target, "mailto:") &&
		!strings.HasPrefix(target, "tel:")
}

// OptOutLink is the target of a link that a marketer writes to let readers opt
// out.
const OptOutLink = "/opt-out"

// frame puts the dressed sections into a whole page. The words in braces are
// filled in for each reader: they are not merge fields.
func frame(style Style, preheader, body string, bare bool) string {
	var b strings.Builder
	b.WriteString(`<!doctype html><html><head><meta charset="utf-8"><meta name="viewport" ` +
		`content="width=device-width"><meta name="color-scheme" content="light dark"><meta ` +
		`name="supported-color-schemes" content="light dark">` +
		`<style>@media (prefers-color-scheme:dark){.bg{background:#0e2a33!important}` +
		`.sheet{background:#12343f!important;color:#e8efec!important}` +
		`.sheet h1,.sheet h2,.sheet a{color:#9fd8cf!important}` +
		`.sheet a.button{background:#1a8a8a!important;color:#fff!important}` +
		`.sheet blockquote{background:#17424e!important}.foot,.foot a{color:#9fb4b4!important}}` +
		`@media (max-width:620px){.sheet{padding:22px 18px!important}}</style></head>`)
	hidden := ""
	if strings.TrimSpace(preheader) != "" {
		// What follows it in a list of mail is filled up with spaces that are not seen.
		hidden = `<div style="display:none;max-height:0;overflow:hidden">` + preheader +
			strings.Repeat("&#847;&zwnj;&nbsp;", 40) + `</div>`
	}
	foot := ""
	if !bare {
		foot = `<p class="foot" style="margin:28px 0 0;font-size:13px;color:` + quiet +
			`"><a class="foot" style="color:` + quiet +
			`" href="{{ ombak.opt_out }}">No more mail from us, or less of it</a>{% if ombak.sender %}<br>{{ ` +
			`ombak.sender }}{% endif %}</p>`
	}
	// Programs that look at letters follow every link; a person cannot follow this one.
	pixel := `{% if ombak.trap %}<a href="{{ ombak.trap }}" style="display:none" tabindex="-1" aria-hidden="true">` +
		`</a>{% endif %}` +
		`{% if ombak.pixel %}<img src="{{ ombak.pixel }}" width="1" height="1" alt="">{% endif %}` +
		`{% if ombak.backdrop %}<div style="width:1px;height:1px;background-image:url('{{ ombak.backdrop }}')"></div>` +
		`{% endif %}`
	if style == Plain {
		b.WriteString(`<body class="bg sheet" style="margin:0;padding:24px;` + face +
			`;font-size:16px;line-height:1.55;color:` + ink + `;background:#ffffff">` + hidden +
			`<div style="max-width:600px">` + body + foot + pixel + `</div></body></html>`)
		return b.String()
	}
	b.WriteString(`<body class="bg" style="margin:0;padding:0;background:#f6f2e9">` + hidden +
		`<table role="presentation" width="100%" cellpadding="0" cellspacing="0" border="0" class="bg" ` +
		`style="background:#f6f2e9"><tr><td align="center" style="padding:24px 10px">` +
		`<table role="presentation" width="600" cellpadding="0" cellspacing="0" border="0" style="width:100%;` +
		`max-width:600px"><tr><td class="sheet" style="background:#fffefb;border-radius:12px;padding:34px 36px;` +
		face + `;font-size:16px;line-height:1.55;color:` + ink + `">` +
		body + foot + pixel + `</td></tr></table></td></tr></table></body></html>`)
	return b.String()
}
