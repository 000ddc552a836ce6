package main

import (
	"fmt"
	"net/url"
	"strings"

	"ombak/internal/core/right"
	"ombak/internal/store"
)

// openPages are the pages that whoever asks for them is answered.
var openPages = []string{"/assets/*", "/b/", "/e/:id", "/f.js", "/first/", "/g/", "/h/", "/healthz", "/join/", "/l/",
	"/o/",
	"/p/", "/readyz", "/sign-in", "/u/", "/v.js", "/s/:id"}

// rolesOf is as whom a page is asked for.
func rolesOf(pattern string) []right.Role {
	for _, p := range openPages {
		if pattern == p || strings.HasSuffix(p, "/") && strings.HasPrefix(pattern, p) {
			return []right.Role{"a stranger"}
		}
	}
	return []right.Role{right.Marketer, right.Rep, right.Lead, right.Admin}
}

// oftenClicked is a rule that asks for what people did.
const oftenClicked = `{"if":{"signal":{"kind":5},"op":"at least","n":3,"days":180}}`

// hardlyEver is one that is true of nobody, or nearly so: all are asked.
const hardlyEver = `{"if":{"signal":{"kind":5},"op":"at least","n":40,"days":30}}`

// pathsOf is what is asked of each pattern, with what hurts most. A pattern that nothing is asked of is one that ends a
// sign-in, never ends, or is answered with a file of all there is.
func pathsOf(h store.Hurts) map[string][]string {
	rule := func(text string) string { return "/people?rule=" + url.QueryEscape(text) }
	with := func(form string, ids ...any) []string { return []string{fmt.Sprintf(form, ids...)} }
	return map[string][]string{
		"/":                   {"/"},
		"/*":                  nil,
		"/assets/*":           {"/assets/app.css"},
		"/b/:slug":            {"/b/none"},
		"/b/feed/:file":       {"/b/feed/none.ics"},
		"/b/m/:id/:signature": {"/b/m/1/none"},
		"/clock":              {"/clock"},
		"/content":            {"/content"},
		"/content/emails":     {"/content/emails"},
		"/content/emails/:id": with("/content/emails/%d", h.Mailing),
		"/content/emails/:id/people": append(with("/content/emails/%d/people?which=opened", h.Mailing),
			fmt.Sprintf("/content/emails/%d/people?which=sent", h.Mailing)),
		"/content/emails/:id/reach":             with("/content/emails/%d/reach", h.Mailing),
		"/content/events":                       {"/content/events"},
		"/content/events/:id":                   with("/content/events/%d", h.Event),
		"/content/events/:id/edit":              with("/content/events/%d/edit", h.Event),
		"/content/events/new":                   {"/content/events/new"},
		"/content/folders":                      {"/content/folders"},
		"/content/folders/file":                 {"/content/folders/file?kind=sequence&id=1"},
		"/content/groups":                       {"/content/groups"},
		"/content/groups/:id":                   {"/content/groups/1"},
		"/content/groups/new":                   {"/content/groups/new"},
		"/content/mailboxes":                    {"/content/mailboxes"},
		"/content/messages/:id":                 {"/content/messages/1"},
		"/content/messages/:id/letter":          with("/content/messages/1/letter?person=%d", h.Person),
		"/content/messages/:id/preview":         {"/content/messages/1/preview"},
		"/content/messages/:id/proof":           {"/content/messages/1/proof"},
		"/content/messages/:id/readers/:person": with("/content/messages/1/readers/%d", h.Person),
		"/content/pages":                        {"/content/pages"},
		"/content/pages/:id":                    with("/content/pages/%d", h.Page),
		"/content/pages/:id/shown":              with("/content/pages/%d/shown", h.Page),
		"/content/shelf":                        {"/content/shelf"},
		"/content/shelf/:id":                    {"/content/shelf/1"},
		"/content/shelf/:id/send":               {"/content/shelf/1/send"},
		"/content/shelf/new":                    {"/content/shelf/new"},
		"/content/sites":                        {"/content/sites"},
		"/desk":                                 {"/desk", "/desk?all=1", "/desk?kind=handoff"},
		"/desk/booking":                         {"/desk/booking"},
		"/desk/calls/:id/phone":                 {"/desk/calls/1/phone"},
		"/desk/load":                            {"/desk/load"},
		"/desk/snippets":                        {"/desk/snippets"},
		"/desk/suggestions":                     {"/desk/suggestions"},
		"/desk/written": {
			"/desk/written",
			"/desk/written?q=sensors+drift",
			"/desk/written?q=pens",
		},
		"/e/:id":           with("/e/%d", h.Event),
		"/e/:id/event.ics": with("/e/%d/event.ics", h.Event),
		"/e/:id/join":      with("/e/%d/join", h.Event),
		"/events":          nil,
		"/f.js":            {"/f.js"},
		"/find": {
			"/find?q=last123",
			"/find?q=co",
			"/find?q=first12+last77",
			"/find?q=sequence",
		},
		"/first/:token":           {"/first/none"},
		"/g/:slug":                {"/g/page-1"},
		"/guide":                  {"/guide"},
		"/h/:touch/:signature":    {"/h/1/none"},
		"/healthz":                {"/healthz"},
		"/join/:token":            {"/join/none"},
		"/l/:touch/:n/:signature": {"/l/1/1/none"},
		"/o/:touch/:picture":      {"/o/1/none.gif"},
		"/p/:slug":                {"/p/page-1"},
		"/p/:slug/form":           {"/p/page-1/form"},
		"/people": {"/people", "/people?order=name", "/people?order=newest", "/people?text=last12",
			rule(`{"if":{"field":"country","op":"is","value":"NO"}}`),
			rule(oftenClicked), rule(hardlyEver),
			rule(`{"all":[{"if":{"field":"country","op":"is","value":"NO"}},{"if":{"signal":{"kind":6},` +
				`"op":"at least","n":30,"days":365}}]}`),
			rule(`{"none":[{"if":{"signal":{"kind":4},"op":"at least","n":1,"days":365}}]}`),
			rule(`{"if":{"field":"title","op":"contains","value":"zzz"}}`),
			rule(`{"if":{"field":"industry","op":"is","value":"nothing"}}`),
			rule(`{"if":{"field":"language","op":"is","value":"xx"}}`),
			rule(`{"if":{"field":"created","op":"within","days":1}}`),
			rule(`{"if":{"about":"audience","id":3,"op":"is"}}`),
			rule(`{"if":{"about":"sequence","id":2,"op":"is"}}`),
			rule(`{"if":{"about":"open deal","op":"is"}}`),
			rule(`{"if":{"about":"lost deal","op":"within","days":10}}`),
			rule(`{"if":{"about":"consent","id":2,"op":"is"}}`),
			rule(`{"if":{"about":"tag","id":77,"op":"is"}}`),
			rule(`{"if":{"about":"tag","id":1,"op":"is not"}}`),
			rule(`{"if":{"about":"tag","id":1,"op":"is"}}`), rule(`{"if":{"score":true,"op":"at least","n":38}}`)},
		"/people/found":                   nil, // among the counts
		"/people/:id":                     with("/people/%d", h.Person),
		"/people/:id/everything":          nil,
		"/people/:id/hand-over":           with("/people/%d/hand-over", h.Person),
		"/people/:id/timeline":            with("/people/%d/timeline?before=1776157200000000", h.Person),
		"/people/:id/letter":              with("/people/%d/letter", h.Person),
		"/people/audiences":               {"/people/audiences"},
		"/people/audiences/:id":           append(with("/people/audiences/%d", h.Audience), "/people/audiences/3"),
		"/people/audiences/:id/edit":      with("/people/audiences/%d/edit", h.Audience),
		"/people/audiences/export":        {"/people/audiences/export"},
		"/people/audiences/new":           {"/people/audiences/new"},
		"/people/audiences/who":           with("/people/audiences/who?rule=%s", url.QueryEscape(oftenClicked)),
		"/people/companies":               {"/people/companies", "/people/companies?text=company+77"},
		"/people/companies/:id":           with("/people/companies/%d", h.Company),
		"/people/companies/count":         {"/people/companies/count", "/people/companies/count?text=company+77"},
		"/people/companies/export":        {"/people/companies/export"},
		"/people/count":                   {"/people/count", "/people/count?text=last12"},
		"/people/doubles":                 {"/people/doubles"},
		"/people/imports":                 {"/people/imports"},
		"/people/imports/:id":             {"/people/imports/1"},
		"/people/imports/:id/to-mend.csv": {"/people/imports/1/to-mend.csv"},
		"/people/merge":                   with("/people/merge?a=%d&b=2", h.Person),
		"/people/new":                     {"/people/new"},
		"/people/put-in":                  {"/people/put-in"},
		"/people/tags":                    {"/people/tags"},
		"/people/tags/:id":                {"/people/tags/1"},
		"/people/values":                  {"/people/values?field=city", "/people/values?field=campaign"},
		"/people/work":                    {"/people/work"},
		"/people/work/:id":                {"/people/work/1"},
		"/people/work/:id/file":           {"/people/work/1/file"},
		"/pipeline":                       {"/pipeline"},
		"/pipeline/:id":                   with("/pipeline/%d", h.Deal),
		"/pipeline/:id/files/:file":       with("/pipeline/%d/files/1", h.Deal),
		"/pipeline/course":                {"/pipeline/course"},
		"/pipeline/handoffs":              {"/pipeline/handoffs", "/pipeline/handoffs?by=source"},
		"/pipeline/imports":               {"/pipeline/imports"},
		"/pipeline/imports/:id":           {"/pipeline/imports/1"},
		"/pipeline/imports/:id/mend":      {"/pipeline/imports/1/mend"},
		"/pipeline/imports/start":         {"/pipeline/imports/start"},
		"/pipeline/list":                  {"/pipeline/list", "/pipeline/list?text=deal+44"},
		"/pipeline/new":                   {"/pipeline/new"},
		"/readyz":                         {"/readyz"},
		"/s/:id":                          {"/s/1"},
		"/s/:id/file":                     {"/s/1/file"},
		"/scoring":                        {"/scoring"},
		"/scoring/draft":                  {"/scoring/draft"},
		"/scoring/figures":                {"/scoring/figures"},
		"/scoring/file":                   {"/scoring/file"},
		"/scoring/fit":                    {"/scoring/fit"},
		"/scoring/lifted":                 {"/scoring/lifted"},
		"/scoring/models":                 {"/scoring/models"},
		"/scoring/versions":               {"/scoring/versions"},
		"/sequences":                      {"/sequences"},
		"/sequences/:id":                  {"/sequences/1", "/sequences/1?view=draft"},
		"/sequences/:id/after":            {"/sequences/1/after?step=2"},
		"/sequences/:id/ahead":            {"/sequences/1/ahead"},
		"/sequences/:id/end":              {"/sequences/1/end"},
		"/sequences/:id/file":             {"/sequences/1/file"},
		"/sequences/:id/launch":           {"/sequences/1/launch"},
		"/sequences/:id/parts":            {"/sequences/1/parts"},
		"/sequences/:id/people": {
			"/sequences/1/people?step=2&what=here",
			"/sequences/1/people?what=ended",
		},
		"/sequences/:id/weighed":                 {"/sequences/1/weighed"},
		"/sequences/hold-all":                    {"/sequences/hold-all"},
		"/sequences/printer":                     {"/sequences/printer"},
		"/sequences/printer/:id/:step":           {"/sequences/printer/1/2"},
		"/sequences/printer/:id/:step/cards.csv": {"/sequences/printer/1/2/cards.csv"},
		"/settings":                              {"/settings"},
		"/settings/changes":                      {"/settings/changes"},
		"/settings/work":                         {"/settings/work"},
		"/settings/grounds":                      {"/settings/grounds"},
		"/settings/handing":                      {"/settings/handing"},
		"/settings/handing/territories/:id":      {"/settings/handing/territories/1"},
		"/settings/handing/territories/new":      {"/settings/handing/territories/new"},
		"/settings/holidays":                     {"/settings/holidays"},
		"/settings/hours":                        {"/settings/hours"},
		"/settings/people":                       {"/settings/people"},
		"/settings/people/:id/hours":             {"/settings/people/4/hours"},
		"/settings/rates":                        {"/settings/rates"},
		"/settings/stages":                       {"/settings/stages"},
		"/settings/teams":                        {"/settings/teams"},
		"/sign-in":                               {"/sign-in"},
		"/sign-out":                              nil,
		"/signature":                             {"/signature"},
		"/today":                                 {"/today"},
		"/u/:touch/:signature":                   {"/u/1/none"},
		"/v.js":                                  {"/v.js"},
	}
}
