package desk

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"gorm.io/gorm"

	"glenrain/core/finding"
	"glenrain/core/font"
	"glenrain/core/jobs"
	"glenrain/core/pdf"
	"glenrain/core/raster"
	"glenrain/core/step"
	"glenrain/desk/background"
	"glenrain/desk/office"
	"glenrain/desk/people"
	"glenrain/desk/store"
	"glenrain/scanner"
)

// Desk is one data folder, opened.
type Desk struct {
	*people.Register
	*office.Settings
	Store *store.Store

	db       *gorm.DB
	dir      string
	lock     *os.File
	registry *step.Registry
	pool     *raster.Pool
	readings memory
	words    learned
	onInk    onInk
	scanners scanner.Rules
	scans    scans
	log      *slog.Logger
	now      func() time.Time
	maxWork  time.Duration

	mu    sync.Mutex
	live  map[uint]*live // documents by id that were worked on lately
	order []uint         // least recent first
	bases map[string]*openBase
	work  *background.Room
	watch watchers

	pictures pictures
	texts    texts
	purged   map[uint]bool // documents that were purged since the start; guarded by mu
	others   []Holding     // of other packages; guarded by mu
	cleaning sync.Mutex    // one cleans at a time

	moreChecks     []finding.Check
	moreFinishers  []Finisher
	moreMany       []ManyKind
	manyMu         sync.Mutex // one act on many documents begins at a time
	endCheckpoints func()
}

// Errors that the web tells apart.
var (
	ErrInUse = errors.New("another server works on this data folder")
)

// sealKeyName is the key's file, where Options.SealKey names none. Backups do not have it.
const sealKeyName = "seal.key"

// Options say how a desk is opened.
type Options struct {
	Log         *slog.Logger
	Now         func() time.Time // the clock; time.Now if nil
	PDFiumCache string           // where the renderer keeps its compiled form; in the data folder if empty
	Registry    *step.Registry   // the steps there are; those of all jobs if nil
	Checks      []finding.Check  // that are made before documents go out, besides those of all jobs
	Finishers   []Finisher       // what may be done to documents when they go out, besides what the house has
	Many        []ManyKind       // work on many documents, besides what the house has
	SealKey     string           // the file with the key that secrets are kept with; in the data folder if empty
	MaxWork     time.Duration    // how long one file or step may take; pdf.MaxWork if zero
	Scanners    scanner.Rules    // where scanners may be
	Guests      people.Gate      // knows visitors who are no people of the house; there are none if nil
}

// Open opens a data folder, which is made where there is none. One server works on
// a folder at a time.
func Open(dir string, opt Options) (_ *Desk, err error) {
	if opt.Now == nil {
		opt.Now = time.Now
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	defer func() {
		if err != nil {
			_ = lock.Close()
		}
	}()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, ErrInUse
	}
	for _, bad := range font.UseFolder(filepath.Join(dir, "fonts")) {
		opt.Log.Warn("a font of the office can’t be used", "why", bad)
	}
	files, err := store.New(dir)
	if err != nil {
		return nil, fmt.Errorf("the data folder: %w", err)
	}
	db, endCheckpoints, err := store.OpenWritten(dir, opt.Log)
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	defer func() {
		if err != nil {
			endCheckpoints()
		}
	}()
	if err := migrate(db); err != nil {
		return nil, err
	}
	cache := opt.PDFiumCache
	if cache == "" {
		cache = filepath.Join(dir, "pdfium")
	}
	pool, err := raster.NewPool(cache, 0)
	if err != nil {
		return nil, err
	}
	register := people.NewRegister(db, opt.Log, opt.Now, opt.Guests)
	d := &Desk{
		Register: register, work: background.New(), Settings: office.NewSettings(db, register, opt.Now, cmp.Or(opt.SealKey, filepath.Join(dir, sealKeyName))),
		Store: files, db: db, dir: dir, lock: lock, registry: opt.Registry, pool: pool, log: opt.Log, now: opt.Now, maxWork: cmp.Or(opt.MaxWork, pdf.MaxWork),
		live: map[uint]*live{}, bases: map[string]*openBase{},
		pictures: pictures{dir: filepath.Join(dir, "pages")}, readings: memory{dir: filepath.Join(dir, "readings")}, scanners: opt.Scanners, purged: map[uint]bool{}, moreChecks: opt.Checks, moreFinishers: opt.Finishers, moreMany: opt.Many,
		endCheckpoints: endCheckpoints,
	}
	d.pictures.gone = d.Purged
	d.pictures.work, d.readings.work = d.workFolder(), d.workFolder()
	if d.registry == nil {
		d.registry = jobs.Registry()
	}
	if err := d.expire(); err != nil {
		return nil, err
	}
	if err := d.passOver(); err != nil {
		return nil, err
	}
	if err := d.sweep(); err != nil {
		return nil, err
	}
	_ = os.RemoveAll(filepath.Join(dir, "pictures")) // where earlier versions kept pictures of pages; they are drawn again
	go d.pictures.clear(maxPictures, maxPicturesLeft)
	if err := d.emptyWorkFolder(); err != nil {
		return nil, err
	}
	if err := d.sweepPurged(); err != nil {
		return nil, err
	}
	d.startReading()
	if err := d.takeUp(); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(dir, uncleanName)); err == nil {
		d.cleanSoon(0)
	}
	return d, nil
}

// Close ends background work and closes the folder.
func (d *Desk) Close() error {
	d.work.Stop()
	d.stopReading()
	d.pool.Close()
	d.endCheckpoints()
	sql, err := d.db.DB()
	if err == nil {
		err = sql.Close()
	}
	return errors.Join(err, d.lock.Close())
}

// Registry gives the steps there are.
func (d *Desk) Registry() *step.Registry { return d.registry }
