package contact

import "testing"

// Every combination of facts, grounds and channels, against the rule in one sentence each.
func TestWhyInFull(t *testing.T) {
	bools := []bool{false, true}
	n := 0
	for _, erased := range bools {
		for _, email := range bools {
			for _, phone := range bools {
				for _, profile := range bools {
					for _, postal := range bools {
						for _, dnc := range bools {
							for bits := range 4 {
								out, calls := bits&1 > 0, bits&2 > 0
								for _, bounced := range bools {
									for consent := Nothing; consent <= Withdrawn; consent++ {
										// What is said of one purpose says nothing of another.
										said := Consents{{2, Agreed}, {1, consent}}
										for _, g := range []Ground{{}, {Purpose: 1}, {Other: "customer"}, {Request: true},
											{Claimed: true}} {
											for _, by := range Channels() {
												f := Facts{erased, email, phone, profile, postal, dnc, out, calls, bounced, said}
												may := !erased && (by == Email && email || by == Call && phone || by == Social && profile ||
													by == Post && postal)
												stopped := dnc || out && !g.Claimed || by == Email && bounced || by == Call && calls
												grounded := g.Claimed || g.Other != "" || g.Purpose != 0 && consent == Agreed
												may = may && (g.Request || !stopped && grounded)
												why := Why(f, by, g)
												if (why == "") != may {
													t.Fatalf("%+v on %+v by %v: %q", f, g, by, why)
												}
												if by == Email &&
													Reachable(f) != (!erased && !dnc && !out && (email && !bounced || phone && !calls || profile)) {
													t.Fatalf("%+v is reachable: %v", f, Reachable(f))
												}
												n++
											}
										}
									}
								}
							}
						}
					}
				}
			}
		}
	}
	if n != 512*3*5*4 {
		t.Errorf("%d cases", n)
	}
}
