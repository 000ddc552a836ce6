package flowmap

import "math"

// round has everything stand at tenths of a pixel: nobody sees more, and a large map is a sixth smaller to send.
func (m *Map) round() {
	tenth := func(list ...*float64) {
		for _, f := range list {
			*f = math.Round(*f*10) / 10
		}
	}
	tenth(&m.W, &m.H, &m.Top, &m.Bottom)
	for i := range m.Columns {
		tenth(&m.Columns[i].X, &m.Columns[i].W)
	}
	for i := range m.Buoys {
		b := &m.Buoys[i]
		tenth(&b.At.X, &b.At.Y, &b.Label.X, &b.Label.Y, &b.Box.X, &b.Box.Y, &b.Box.W, &b.Box.H)
	}
	for i := range m.Streams {
		s := &m.Streams[i]
		tenth(&s.Pill.X, &s.Pill.Y, &s.Pill.W, &s.Pill.H, &s.Plus.X, &s.Plus.Y)
	}
	for i := range m.Threads {
		tenth(&m.Threads[i].At.X, &m.Threads[i].At.Y)
	}
}
