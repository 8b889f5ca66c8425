// Package metrics tells figures as OpenMetrics has them, over HTTP: what a part of the
// product knows of itself, by families that are listed once, with their help and labels.
//
// A [Figures] is a list of families and a function that fills a [Page] with their samples;
// [Listen] serves some of them. Agent and service each have figures of their own.
package metrics

import (
	"slices"
	"strings"

	"github.com/prometheus/client_golang/prometheus"

	"oakbarrel/core/delay"
)

// Kind is what the samples of a family are.
type Kind string

// The kinds.
const (
	Counter   Kind = "counter" // only grows, from 0 at each start; its name ends in _total
	Gauge     Kind = "gauge"
	Histogram Kind = "histogram"
)

// Family is a name with all its samples.
type Family struct {
	Name   string
	Kind   Kind
	Help   string
	Labels []string
}

// Figures are the families of one part, and who knows their samples.
type Figures struct {
	Families []Family
	Fill     func(*Page) // is called once a second at most
}

// make returns the samples as they are now.
func (f *Figures) make() (all []prometheus.Metric) {
	p := &Page{families: f.Families, at: map[string]int{}}
	f.Fill(p)
	for _, s := range p.samples {
		all = append(all, s.metric())
	}
	return all
}

// Page gathers the samples of one scrape. Of samples with the same labels one is made, as
// where an intake leaves and another of its name comes.
type Page struct {
	families []Family
	samples  []sample
	at       map[string]int
}

type sample struct {
	family Family
	labels []string
	value  float64
	seen   *delay.Seen // of a histogram
}

// Add adds a value to a counter or a gauge.
func (p *Page) Add(name string, value float64, labels ...string) {
	p.sample(name, labels).value += value
}

// Most sets a gauge, where it is not more already.
func (p *Page) Most(name string, value float64, labels ...string) {
	s := p.sample(name, labels)
	s.value = max(s.value, value)
}

// Flag is Most for 1 where it holds, and 0 where it does not.
func (p *Page) Flag(name string, holds bool, labels ...string) {
	value := 0.0
	if holds {
		value = 1
	}
	p.Most(name, value, labels...)
}

// Spread adds what a histogram has counted.
func (p *Page) Spread(name string, seen delay.Seen, labels ...string) {
	s := p.sample(name, labels)
	if s.seen == nil {
		s.seen = &seen
		return
	}
	sum := delay.Seen{Count: s.seen.Count + seen.Count, Seconds: s.seen.Seconds + seen.Seconds}
	for i, b := range s.seen.Within {
		sum.Within = append(sum.Within, delay.Bucket{Seconds: b.Seconds, Count: b.Count + seen.Within[i].Count})
	}
	s.seen = &sum
}

// sample returns that of a family with these labels. A family that is not listed, or has
// other labels, is a mistake of ours.
func (p *Page) sample(name string, labels []string) *sample {
	key := name + "\x00" + strings.Join(labels, "\x00")
	i, known := p.at[key]
	if !known {
		f := slices.IndexFunc(p.families, func(f Family) bool { return f.Name == name })
		if f < 0 || len(p.families[f].Labels) != len(labels) {
			panic("figures: " + name + " is not listed with such labels")
		}
		i = len(p.samples)
		p.samples, p.at[key] = append(p.samples, sample{family: p.families[f], labels: clean(labels)}), i
	}
	return &p.samples[i]
}

// clean returns labels that can be told: what is no text is marked.
func clean(labels []string) (all []string) {
	for _, l := range labels {
		all = append(all, strings.ToValidUTF8(l, "\uFFFD"))
	}
	return all
}

func (s *sample) metric() prometheus.Metric {
	desc := prometheus.NewDesc(s.family.Name, s.family.Help, s.family.Labels, nil)
	var m prometheus.Metric
	var err error
	switch s.family.Kind {
	case Histogram:
		within := map[float64]uint64{}
		for _, b := range s.seen.Within {
			within[b.Seconds] = uint64(b.Count)
		}
		m, err = prometheus.NewConstHistogram(desc, uint64(s.seen.Count), s.seen.Seconds, within, s.labels...)
	case Counter:
		m, err = prometheus.NewConstMetric(desc, prometheus.CounterValue, s.value, s.labels...)
	default:
		m, err = prometheus.NewConstMetric(desc, prometheus.GaugeValue, s.value, s.labels...)
	}
	if err != nil {
		return prometheus.NewInvalidMetric(desc, err)
	}
	return m
}
