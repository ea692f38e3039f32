// Package demo writes the demo data: a day of the made-up Orrin Sound Buoy Network, in the forms that senders send. The same
// scale gives the same bytes, always.
package demo

import (
	"bufio"
	"bytes"
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"math/rand"
	"strings"
	"time"

	"trevak/internal/storage"

	"github.com/klauspost/compress/gzip"
)

//go:embed data
var data embed.FS

// Counts are the records in each part of the data.
type Counts struct {
	Stations, South, NewStations, Observations, Readings, Tides, ServiceLog int
}

// embedded says where the files that are shipped as they are go.
var embedded = map[string]string{
	"stations.csv":           "stations/stations.csv",
	"stations_south.csv":     "stations-south/stations_south.csv",
	"station_changes.csv":    "station-changes/2031-05-05.csv",
	"service_log.psv":        "service_log/service_log.psv",
	"service_log_mended.psv": "service_log_mended/service_log.psv",
}

// Sheet is the name of the run sheet of the morning, Arrivals that of what arrives during the day.
const (
	Sheet    = "day.sheet.yaml"
	Arrivals = "arrivals.sheet.yaml"
)

// Numbers of records at scale 1.
const (
	observationsADay = 400
	days             = 4
	tideRows         = 5000
	stations         = 40
	south            = 12
	newStations      = 1
	serviceRows      = 120
)

// Write writes the data below dir, which must exist, scale times as large as the smallest.
// The run sheet among it names its sources from a folder on, which is where others find the data.
func Write(dir, folder string, scale int) (Counts, error) {
	counts := Counts{Stations: stations, South: south, NewStations: newStations, ServiceLog: serviceRows, Tides: tideRows * scale}
	for name, place := range embedded {
		text, err := data.ReadFile("data/" + name)
		if err != nil {
			return counts, err
		}
		if err := file(dir, place, func(w io.Writer) error { _, err := w.Write(text); return err }); err != nil {
			return counts, err
		}
	}
	for _, name := range []string{Sheet, Arrivals} {
		sheet, err := data.ReadFile("data/" + name)
		if err != nil {
			return counts, err
		}
		if err := file(dir, name, func(w io.Writer) error {
			_, err := w.Write(bytes.ReplaceAll(sheet, []byte("FOLDER"), []byte(folder)))
			return err
		}); err != nil {
			return counts, err
		}
	}
	random := rand.New(rand.NewSource(20310501))
	for day := range days {
		date := time.Date(2031, 5, 1+day, 0, 0, 0, 0, time.UTC)
		err := file(dir, "observations/"+date.Format("2006-01-02")+".ndjson.gz", func(w io.Writer) error {
			packed := gzip.NewWriter(w)
			for i := range observationsADay * scale {
				counts.Readings += observation(packed, random, date, i, scale, day == days-1)
				counts.Observations++
			}
			return packed.Close()
		})
		if err != nil {
			return counts, err
		}
	}
	return counts, file(dir, "tides/tides.tsv", func(w io.Writer) error { return tides(w, random, tideRows*scale) })
}

// file writes one file.
func file(dir, place string, write func(io.Writer) error) error {
	f, err := storage.Disk{}.Create(context.Background(), storage.Join(dir, place), storage.Creation{Mode: storage.Replace})
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	err = write(w)
	if flushed := w.Flush(); err == nil {
		err = flushed
	}
	if err != nil {
		return errors.Join(err, f.Abort())
	}
	return f.Commit()
}

var (
	areas   = []string{"Cairn Bay", "Inner Reach", "Outer Skerries", "Marrow Deep", "Lantern Bank", "The Narrows"}
	sensors = []struct {
		name, unit string
		low, span  float64
	}{{"wave_height", "m", 0, 9}, {"water_temp", "degC", 2, 14}, {"wind_speed", "m/s", 0, 30}, {"pressure", "hPa", 970, 60},
		{"salinity", "psu", 30, 6}}
	alerts = []string{"drift", "low light", "collision", "hatch open"}
)

// observation writes one record and returns how many readings it holds. With the newer firmware the records have two more
// fields, and the battery's charge is sometimes a word.
func observation(w io.Writer, random *rand.Rand, date time.Time, i, scale int, newer bool) int {
	buoy := random.Intn(stations)
	at := date.Add(time.Duration(i) * 24 * time.Hour / time.Duration(observationsADay*scale)).Truncate(time.Second)
	n := random.Intn(5)
	readings := make([]string, n)
	for j := range n {
		s := sensors[(j+buoy)%len(sensors)]
		readings[j] = fmt.Sprintf(`{"sensor":%q,"unit":%q,"value":%.2f,"ok":%v}`, s.name, s.unit, s.low+random.Float64()*s.span,
			random.Intn(12) > 0)
	}
	raised := "[]"
	if random.Intn(4) == 0 {
		raised = fmt.Sprintf(`[%q]`, alerts[random.Intn(len(alerts))])
	}
	battery := fmt.Sprint(20 + random.Intn(81))
	extra := ""
	if newer {
		extra = fmt.Sprintf(`,"firmware":"3.%d","link":{"rssi_dbm":%d,"via":%q}`, random.Intn(3), -60-random.Intn(50),
			[]string{"relay", "direct"}[random.Intn(2)])
		if random.Intn(50) == 0 {
			battery = `"charging"`
		}
	}
	fmt.Fprintf(w, `{"observed_at":%q,"sea_area":%q,"buoy":{"code":"%04d","position":{"lat":%.5f,"lon":%.5f}},`+
		`"readings":[%s],"alerts":%s,"battery":%s%s}`+"\n",
		at.Format(time.RFC3339), areas[buoy%len(areas)], buoy+1, 57+random.Float64()*1.4, -6.9+random.Float64()*1.8,
		strings.Join(readings, ","), raised, battery, extra)
	return n
}

// tides writes water levels, a line every six minutes for each of ten stations.
func tides(w io.Writer, random *rand.Rand, rows int) error {
	if _, err := fmt.Fprintln(w, "station\ttaken at\tlevel (m)\tresidual (cm)\tquality"); err != nil {
		return err
	}
	start := time.Date(2031, 4, 28, 0, 0, 0, 0, time.UTC)
	for i := range rows {
		at := start.Add(time.Duration(i/10) * 6 * time.Minute)
		residual := fmt.Sprintf("%.1f", random.NormFloat64()*12)
		if random.Intn(20) == 0 {
			residual = ""
		}
		if _, err := fmt.Fprintf(w, "%04d\t%s\t%.3f\t%s\t%s\n", 1+i%10, at.Format("2006-01-02 15:04:05"), 2.5+random.NormFloat64(),
			residual,
			[]string{"good", "good", "good", "suspect"}[random.Intn(4)]); err != nil {
			return err
		}
	}
	return nil
}
