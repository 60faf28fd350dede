package fleet

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"idlebeacon/internal/core/geo"
	"idlebeacon/internal/core/motion"
	"idlebeacon/internal/pgbox/pgboxtest"
	"idlebeacon/internal/store"
)

// BenchmarkReport keeps batches of reports of a thousand devices.
func BenchmarkReport(b *testing.B) {
	for _, together := range []int{100, 2000} {
		b.Run(fmt.Sprint(together), func(b *testing.B) {
			st, err := store.Open(b.Context(), store.Options{DSN: pgboxtest.DSN(b), Log: slog.New(slog.DiscardHandler)})
			if err != nil {
				b.Fatal(err)
			}
			f, err := Open(b.Context(), st, Options{Log: slog.New(slog.DiscardHandler)})
			if err != nil {
				b.Fatal(err)
			}
			defer func() {
				f.Shutdown(context.Background())
				st.Close()
			}()
			at := motion.MomentOf(time.Now().Add(-24 * time.Hour))
			n := 0
			b.ResetTimer()
			for b.Loop() {
				reports := make([]Reported, together)
				for i := range reports {
					n++
					p := geo.Point{Lon: -22 + float64(n%977)/1000, Lat: -38.5}
					reports[i] = report(fmt.Sprint("d", n%1000), p, at.Add(time.Duration(n)*time.Millisecond))
				}
				if _, err := f.Report(b.Context(), reports, ""); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "reports/s")
		})
	}
}
