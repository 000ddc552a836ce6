// Package demo makes the demo: Karang Instruments, a maker of water-quality
// buoys and sensors, with the people it sells to, a year of what they did, its
// pages, messages and sequences, and a clock that is moved by hand.
//
// Everybody and everything is invented. Addresses lie under .example (RFC
// 2606); telephone numbers come from ranges that are set aside for fiction
// (+1 202 555 01xx and +44 20 7946 0xxx, from memory). One seed makes one
// scenario.
package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"

	"ombak/internal/core/person"
	"ombak/internal/core/pipeline"
	"ombak/internal/core/right"
	"ombak/internal/core/score"
	"ombak/internal/core/signal"
	"ombak/internal/engine"
	"ombak/internal/password"
	"ombak/internal/store"
)

// Start is where the demo's clock begins: a Tuesday morning, 09:20 in Jakarta,
// where Karang Instruments is at home.
var Start = time.Date(2026, 4, 14, 2, 20, 0, 0, time.UTC)

// Zone is where Karang Instruments is at home.
const Zone = "Asia/Jakarta"

// Password is everybody's in the demo.
const Password = "open-water"

var users = []store.User{
	{Name: "Ines Radu", Email: "ines.radu@karang.example", Phone: "+44 20 7946 0101", Role: right.Marketer},
	{Name: "Tomas Vale", Email: "tomas.vale@karang.example", Phone: "+44 20 7946 0102", Role: right.Rep, Capacity: 12},
	{Name: "Uma Okoye", Email: "uma.okoye@karang.example", Phone: "+44 20 7946 0103", Role: right.Lead},
	{Name: "Wira Sandoval", Email: "wira.sandoval@karang.example", Phone: "+44 20 7946 0104", Role: right.Admin},
	{Name: "Signe Aalto", Email: "signe.aalto@karang.example", Phone: "+44 20 7946 0105", Role: right.Rep,
		Capacity: 12},
	{Name: "Bao Lindqvist", Email: "bao.lindqvist@karang.example", Phone: "+44 20 7946 0106", Role: right.Rep,
		Capacity: 8},
}

// faces is how many of the users one press signs in as.
const faces = 4

var countries = []struct {
	code   string
	cities []string
	weight int
	first  []string
	last   []string
}{
	{"NO", []string{"Bergen", "Tromsø", "Ålesund", "Bodø"}, 16,
		[]string{"Astrid", "Henrik", "Ingrid", "Lars", "Silje", "Eirik", "Maren", "Odd", "Sigrid", "Torvald", "Kjersti",
			"Anders", "Ragnhild", "Jonas", "Vilde", "Steinar"},
		[]string{"Haugen", "Strand", "Lunde", "Vik", "Moen", "Solberg", "Bakke", "Tangen", "Berge", "Dahl", "Nygård",
			"Hagen", "Aune", "Eide", "Fossum", "Grønli", "Hovland", "Iversen", "Kvam", "Lien", "Myhre", "Ness", "Opdal",
			"Rønning", "Sæther", "Tveit"}},
	{"GB", []string{"Oban", "Aberdeen", "Hull", "Cardiff"}, 12,
		[]string{"Fiona", "Callum", "Isla", "Graham", "Priya", "Ewan", "Moira", "Owen", "Agnes", "Rory", "Bethan",
			"Dougal", "Nerys", "Amit", "Shona", "Gareth"},
		[]string{"Marsh", "Reid", "Kerr", "Holloway", "Munro", "Patel", "Ferris", "Dunn", "Abbott", "Cairns",
			"Drummond", "Ellery", "Fenwick", "Gower", "Hewitt", "Innes", "Lockhart", "Penrose", "Sinclair", "Tranter"}},
	{"CA", []string{"Halifax", "Vancouver", "Toronto"}, 12,
		[]string{"Claire", "Noah", "Mireille", "Grant", "Aiyana", "Luc", "Hannah", "Dev", "Sylvie", "Bennett", "Odette",
			"Harjit", "Nell", "Étienne", "Fern", "Wade"},
		[]string{"Tremblay", "Olsen", "Gagnon", "Fraser", "Singh", "Roy", "Walsh", "Beaton", "Bouchard", "Cormier",
			"Desjardins", "Ermine", "Fontaine", "Gill", "Leblanc", "MacNeil", "Okafor", "Poirier", "Savoie",
			"Thibault"}},
	{"US", []string{"Seattle", "Portland", "Houston", "Anchorage"}, 11,
		[]string{"Dana", "Miguel", "Kira", "Walter", "Renee", "Theo", "Lucia", "Andre", "Carmen", "Wes", "Odessa",
			"Hank", "Marisol", "Blake", "June", "Silas"},
		[]string{"Barlow", "Reyes", "Whitfield", "Nakai", "Pruitt", "Soto", "Kessler", "Boone", "Ainsley", "Burke",
			"Castillo", "Dvorak", "Easton", "Fielding", "Garrity", "Huxtable", "Lindgren", "Marlow", "Ortega",
			"Yazzie"}},
	{"CL", []string{"Puerto Montt", "Punta Arenas", "Santiago"}, 10,
		[]string{"Camila", "Rodrigo", "Paz", "Matías", "Javiera", "Ignacio", "Elisa", "Tomás", "Fernanda", "Gonzalo",
			"Antonia", "Cristóbal", "Rayén", "Felipe", "Maite", "Emilio"},
		[]string{"Rojas", "Vidal", "Fuentes", "Araya", "Cárdenas", "Mansilla", "Oyarzo", "Pinto", "Aguilar", "Barría",
			"Catalán", "Díaz", "Escobar", "Figueroa", "Gallardo", "Henríquez", "Leiva", "Muñoz", "Paredes", "Soto"}},
	{"ID", []string{"Jakarta", "Surabaya", "Makassar"}, 9,
		[]string{"Dewi", "Bayu", "Sari", "Rizky", "Putri", "Agung", "Ratna", "Hendra", "Indah", "Fajar", "Ayu", "Yoga",
			"Melati", "Dimas", "Wulan", "Arief"},
		[]string{"Wibowo", "Santoso", "Kusuma", "Hartono", "Lestari", "Siregar", "Nugroho", "Halim", "Anggraini",
			"Budiman", "Cahyadi", "Firmansyah", "Gunawan", "Irawan", "Maulana", "Purnama", "Rahayu", "Saputra",
			"Tarigan", "Wijaya"}},
	{"AE", []string{"Dubai", "Abu Dhabi"}, 7,
		[]string{"Layla", "Omar", "Noura", "Faisal", "Hessa", "Karim", "Mariam", "Tariq", "Amal", "Rashid", "Dalia",
			"Yusuf", "Salma", "Hamdan", "Reem", "Zayed"},
		[]string{"Al Hamad", "Mansour", "Qasim", "Darwish", "Saleh", "Nasser", "Farouk", "Habib", "Aziz", "Bakri",
			"Haddad", "Ibrahim", "Jaber", "Khalil", "Najjar", "Othman", "Rahim", "Sabbagh", "Tahan", "Zaki"}},
	{"SG", []string{"Singapore"}, 5,
		[]string{"Mei Lin", "Arun", "Hui Min", "Jasper", "Siti", "Wei", "Nadia", "Kumar", "Xin Yi", "Faizal", "Anjali",
			"Bernard", "Li Ting", "Hafiz", "Priscilla", "Vikram"},
		[]string{"Tan", "Nair", "Lim", "Ong", "Rahman", "Chua", "Goh", "Pillai", "Chew", "Das", "Koh", "Menon", "Ng",
			"Osman", "Seah", "Teo"}},
	{"AU", []string{"Hobart", "Perth", "Sydney"}, 6,
		[]string{"Bronwyn", "Jack", "Tahlia", "Hugh", "Mai", "Lachlan", "Zoe", "Ravi", "Matilda", "Declan", "Yara",
			"Angus", "Priscilla", "Kieran", "Tess", "Minh"},
		[]string{"Hartley", "Nguyen", "Cole", "Mackie", "Sutton", "Brennan", "Ashby", "Doyle", "Carver", "Farrell",
			"Gillard", "Hoang", "Keating", "Lawson", "Rourke", "Vance"}},
	{"DE", []string{"Hamburg", "Kiel", "Rostock"}, 5,
		[]string{"Anke", "Jürgen", "Miriam", "Thorsten", "Leonie", "Malte", "Gesa", "Ulf", "Frauke", "Hinnerk",
			"Swantje", "Jannik", "Wiebke", "Carsten", "Imke", "Torben"},
		[]string{"Brandt", "Petersen", "Voß", "Lorenzen", "Krüger", "Thiessen", "Behrens", "Hagemann", "Albers",
			"Claasen", "Detlefsen", "Ehlers", "Feddersen", "Jessen", "Matthiesen", "Nissen"}},
	{"VN", []string{"Da Nang", "Hai Phong"}, 4,
		[]string{"Hoa", "Minh", "Lan", "Quang", "Thu", "Duc", "Ngoc", "Hai", "Linh", "Tuấn", "Mai", "Khánh", "Yến",
			"Sơn", "Phương", "Long"},
		[]string{"Ngô", "Phạm", "Trần", "Lê", "Đặng", "Bùi", "Vũ", "Hồ", "Cao", "Đinh", "Dương", "Hà", "Lương", "Mạc",
			"Phan", "Tạ"}},
	{"CR", []string{"Puntarenas", "Limón"}, 3,
		[]string{"Valeria", "Esteban", "Sofía", "Marco", "Daniela", "Pablo", "Irene", "Luis", "Gabriela", "Randall",
			"Melissa", "Óscar", "Karla", "Álvaro", "Raquel", "Diego"},
		[]string{"Mora", "Castro", "Jiménez", "Solano", "Quesada", "Brenes", "Alfaro", "Ulate", "Araya", "Bonilla",
			"Cordero", "Durán", "Fallas", "Gamboa", "Herrera", "Madrigal"}},
}

var industries = []struct {
	name   string
	ends   []string
	weight int
	titles []string
}{
	{"Fish farming", []string{"Seafarms", "Aquaculture", "Fish Co-op", "Salmon", "Pens"}, 42,
		[]string{"Site manager", "Head of fish health", "Operations director", "Feed planner", "Biologist"}},
	{"Ports", []string{"Harbour", "Port Authority", "Terminals", "Quays"}, 18,
		[]string{"Harbour master", "Environment officer", "Dredging planner", "Operations director"}},
	{"Desalination", []string{"Desalination", "Clearwater Works", "Osmosis Plant"}, 18,
		[]string{"Plant manager", "Intake engineer", "Process chemist", "Maintenance lead"}},
	{"Waterworks", []string{"Town Water", "Waterworks", "Reservoir Board", "Utilities"}, 22,
		[]string{"Water quality lead", "Treatment engineer", "Laboratory head", "Network planner"}},
}

var beginnings = []string{"Nord", "Silver", "Kelp", "Skerry", "Tern", "Blue", "Grey", "Coral", "Anchor", "Fjord",
	"Lagoon", "Pearl", "Heron", "Drift", "Ebb", "Salt", "Reef", "Gull", "Spray", "Moon", "Cedar", "Osprey", "Pebble",
	"Storm", "Amber", "Willow", "Cobalt", "Juniper", "Marram", "Otter"}
var middles = []string{"vik", "sund", "holm", "mere", "bay", "point", "ness", "haven", "firth", "strand", "lund",
	"march", "wick", "stone", "field"}

type company struct {
	name, domain, country, city, industry string
	titles                                []string
	at                                    int // index into countries
}

// scenario is everything that one seed makes before it is kept.
type scenario struct {
	rnd       *rand.Rand
	companies []company
	people    []store.NewPerson
	owners    []int // index of the rep among users, −1 for none
}

func imagine(seed uint64, companies, people int) *scenario {
	s := &scenario{rnd: rand.New(rand.NewPCG(seed, 20260414))}
	pick := func(total int, weight func(int) int) int {
		n := s.rnd.IntN(total)
		for i := 0; ; i++ {
			if n -= weight(i); n < 0 {
				return i
			}
		}
	}
	used := map[string]bool{}
	for len(s.companies) < companies {
		ci := pick(100, func(i int) int { return countries[i].weight })
		ii := pick(100, func(i int) int { return industries[i].weight })
		in := industries[ii]
		root := beginnings[s.rnd.IntN(len(beginnings))] + middles[s.rnd.IntN(len(middles))]
		name := root + " " + in.ends[s.rnd.IntN(len(in.ends))]
		domain := strings.ToLower(strings.ReplaceAll(name, " ", "-")) + ".example"
		if used[domain] {
			continue
		}
		used[domain] = true
		s.companies = append(s.companies,
			company{name, domain, countries[ci].code, countries[ci].cities[s.rnd.IntN(len(countries[ci].cities))],
				in.name, in.titles, ci})
	}
	sources := []string{"calibration clinic", "trade fair", "page oxygen-alarms", "import autumn list", "referral"}
	for len(s.people) < people {
		c := s.companies[min(len(s.people)%companies, companies-1)]
		if len(s.people) >= companies { // every company has one; the others fall where they fall
			c = s.companies[s.rnd.IntN(companies)]
		}
		l := countries[c.at]
		// A name that is taken already is picked anew a few times: namesakes are few, as in life.
		var first, last string
		for range 12 {
			if first, last = l.first[s.rnd.IntN(len(l.first))], l.last[s.rnd.IntN(len(l.last))]; !used[first+" "+last] {
				break
			}
		}
		used[first+" "+last] = true
		email := mailName(first) + "." + mailName(last) + "@" + c.domain
		if used[email] {
			email = fmt.Sprintf("%s.%s%d@%s", mailName(first), mailName(last), len(s.people), c.domain)
		}
		used[email] = true
		phone := fmt.Sprintf("+1 202 555 01%02d", s.rnd.IntN(100))
		if s.rnd.IntN(2) == 0 {
			phone = fmt.Sprintf("+44 20 7946 0%03d", s.rnd.IntN(1000))
		}
		if s.rnd.IntN(3) == 0 {
			phone = ""
		}
		s.people = append(s.people,
			store.NewPerson{First: first, Last: last, Email: email, Company: c.name, Domain: c.domain,
				Country: c.country, City: c.city,
				Title: c.titles[s.rnd.IntN(len(c.titles))], Phone: phone, Source: sources[s.rnd.IntN(len(sources))]})
		owner := -1
		if s.rnd.IntN(100) < 45 {
			owner = []int{1, 4, 5}[s.rnd.IntN(3)]
		}
		s.owners = append(s.owners, owner)
	}
	return s
}

// mailName is a name as people have it in their address.
func mailName(s string) string { return strings.ReplaceAll(person.Plain(s), " ", "") }

// hashed is everybody's password as it is kept, made once.
var hashed = sync.OnceValue(func() string { return password.Hash(Password) })

// keepUsers keeps the users and answers their ids in order.
func keepUsers(ctx context.Context, e *engine.Engine) ([]int64, error) {
	hash := hashed()
	var ids []int64
	for _, u := range users {
		u.PasswordHash = hash
		id, err := e.AddUser(ctx, u)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, nil
}

var stages = []pipeline.Stage{
	{Name: "Accepted", Share: 10}, {Name: "Talking", Share: 25}, {Name: "Buoy on loan", Share: 50},
	{Name: "Offer", Share: 75},
	{Name: "Won", Share: 100, Won: true}, {Name: "Lost", Lost: true},
}

var serviceStages = []pipeline.Stage{
	{Name: "Due for service", Share: 40}, {Name: "Asked", Share: 60}, {Name: "Quote sent", Share: 80},
	{Name: "Renewed", Share: 100, Won: true}, {Name: "Not renewed", Lost: true},
}

// model is the score model that marketing and sales agreed on. Common
// practice, no source.
var model = score.Model{Name: "Engagement", Line: 15, Bands: bands, Fit: fit, FitBands: fitBands, Rules: []score.Rule{
	{Group: "On pages", On: signal.Pattern{Kind: signal.PageView}, Points: 10, Lasts: 30},
	{Group: "In emails", On: signal.Pattern{Kind: signal.Open}, Points: 1, Lasts: 30},
	{Group: "In emails", On: signal.Pattern{Kind: signal.Click}, Points: 3, Lasts: 30},
	{Group: "In their own words", On: signal.Pattern{Kind: signal.Reply}, Points: 2},
}}
