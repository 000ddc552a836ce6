package pipeline

import "testing"

func TestForecast(t *testing.T) {
	stages := []Stage{{ID: 1, Name: "Accepted", Share: 10}, {ID: 2, Name: "Trial", Share: 50},
		{ID: 3, Name: "Won", Share: 100, Won: true}, {ID: 4, Lost: true}}
	columns, promised := Forecast(stages, []Sum{{1, 1, 1000}, {1, 1, 2000}, {2, 1, 1000}, {3, 1, 9000}, {4, 1, 7000}, {99, 1, 5}})
	if promised != 800 { // 3000 at 10 % and 1000 at 50 %: what is won or lost is no promise
		t.Errorf("promised %d", promised)
	}
	if c := columns[0]; c.Deals != 2 || c.Amount != 3000 {
		t.Errorf("first stage: %+v", c)
	}
	if c := columns[2]; c.Deals != 1 || c.Amount != 9000 {
		t.Errorf("won: %+v", c)
	}
}
