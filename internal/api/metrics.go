package api

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"rillmark/internal/engine"
	"rillmark/internal/service"
)

// collector reads the service's status when it is asked for metrics.
type collector struct {
	service *service.Service
	failed  func() int64 // logins
}

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("rillmark_"+name, help, labels, nil)
}

var (
	sourceUp        = desc("source_running", "1 while the source is captured, else 0.", "source", "phase")
	sourceEvents    = desc("journal_events_total", "Events in the journal by table and operation.", "source", "table", "operation")
	sourceNext      = desc("journal_next_offset", "The offset that the next event gets.", "source")
	sourceBytes     = desc("journal_bytes", "What the journal takes on disk.", "source")
	sourceDelay     = desc("capture_delay_seconds", "From the newest event's commit until it was in the journal.", "source")
	sourceHeld      = desc("source_retained_log_bytes", "Log that the source keeps because of us, paused or not.", "source")
	sourceSpilled   = desc("source_spilled_bytes_total", "Bytes that the source wrote to its disk to decode large transactions for us.", "source")
	tableState      = desc("table_state", "1 for each table, with the state that it is in and why.", "source", "table", "state", "cause")
	tableRows       = desc("load_rows", "Rows that the load of a table has read, while it is loaded.", "source", "table")
	outletUp        = desc("outlet_running", "1 while the outlet delivers or is read, else 0.", "outlet", "phase")
	outletOffset    = desc("outlet_committed_offset", "The newest offset that was delivered.", "outlet")
	outletBehind    = desc("outlet_behind_events", "Events of the source after the committed offset.", "outlet")
	outletSeconds   = desc("outlet_behind_seconds", "Since the oldest of those was committed.", "outlet")
	outletSent      = desc("outlet_delivered_events_total", "Events that went out, repeats included.", "outlet")
	outletDead      = desc("outlet_dead_letters", "Events that could not be delivered: dead, or behind a dead one of the same row.", "outlet", "state")
	outletRetention = desc("outlet_retention_used", "The part of the journal's age or size limit that what is not delivered has used up; at 1 retention removes it.", "outlet")
	outletDelay     = desc("outlet_delay_seconds", "From the newest delivered event's commit until it was delivered.", "outlet")
	outletVerified  = desc("outlet_verified_timestamp_seconds", "When the outlet's tables were last compared with the source's.", "outlet")
	outletEqual     = desc("outlet_verified_equal", "1 where that comparison found them equal, else 0.", "outlet")
	loginsFailed    = desc("logins_failed_total", "Wrong tokens that were given since the start.")
	stateUp         = desc("state_database_up", "1 while the state database answers, else 0.")
)

// Describe implements [prometheus.Collector].
func (c collector) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{sourceUp, sourceEvents, sourceNext, sourceBytes, sourceDelay, sourceHeld, sourceSpilled, tableState, tableRows, outletUp, outletOffset, outletBehind, outletSeconds, outletSent, outletDead, outletRetention, outletDelay, loginsFailed, stateUp} {
		to <- d
	}
}

// Collect implements [prometheus.Collector].
func (c collector) Collect(to chan<- prometheus.Metric) {
	ctx, cancel := timeout()
	defer cancel()
	st := c.service.Overview.Now(ctx)
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
	}
	one := func(is bool) float64 {
		if is {
			return 1
		}
		return 0
	}
	counter(loginsFailed, float64(c.failed()))
	gauge(stateUp, one(st.StateDatabase.OK))
	for _, s := range st.Sources {
		gauge(sourceUp, one(s.Phase == "running"), s.Name, s.Phase)
		gauge(sourceNext, float64(s.Journal.Next), s.Name)
		gauge(sourceBytes, float64(s.Journal.Bytes), s.Name)
		if s.Delay != nil {
			gauge(sourceDelay, *s.Delay, s.Name)
		}
		if s.RetainedLog != nil {
			gauge(sourceHeld, float64(s.RetainedLog.Bytes), s.Name)
			counter(sourceSpilled, float64(s.RetainedLog.Spilled), s.Name)
		}
		for _, t := range s.Tables {
			gauge(tableState, 1, s.Name, t.Name, t.State, string(t.Cause))
			if t.State == engine.StateLoading {
				gauge(tableRows, float64(t.RowsDone), s.Name, t.Name)
			}
			for operation, n := range t.Counts {
				counter(sourceEvents, float64(n), s.Name, t.Name, operation)
			}
		}
	}
	for _, o := range st.Outlets {
		gauge(outletUp, one(o.Phase == "running" || o.Phase == "pull"), o.Name, o.Phase)
		gauge(outletOffset, float64(o.Committed), o.Name)
		gauge(outletBehind, float64(o.Behind), o.Name)
		gauge(outletSeconds, o.BehindSeconds, o.Name)
		counter(outletSent, float64(o.Delivered), o.Name)
		gauge(outletDead, float64(o.Dead), o.Name, "dead")
		if o.Verified != nil {
			gauge(outletVerified, float64(o.Verified.At.Unix()), o.Name)
			gauge(outletEqual, one(o.Verified.Equal), o.Name)
		}
		gauge(outletDead, float64(o.Waiting), o.Name, "behind")
		if o.Retention != nil {
			gauge(outletRetention, o.Retention.Used, o.Name)
		}
		if o.Delay != nil {
			gauge(outletDelay, *o.Delay, o.Name)
		}
	}
}

func (s *Server) metrics() http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(collector{s.service, s.door.failed.Load}, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
}

func timeout() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), 3*time.Second)
}
