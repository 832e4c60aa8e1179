# make demo   (or tools/demo) builds Glenrain, installs chromium where it is missing, and serves the demo data on 127.0.0.1:8080
# make test   (or tools/test) installs what the tests need and runs them all
# make bench  measures, and writes docs/BENCH.md
# make corpus gathers real files, holds what is read and written against other programs, and writes docs/COMPATIBILITY.md
# make agree  holds the text of real files against what other programs read, and writes docs/AGREEMENT.md
# make walk   walks the real files through the whole house, from the door to the hand-out, and through steps by chance that are held
#             against what was there, and writes that into docs/COMPATIBILITY.md
# make fuzz   tries changed real files, and then runs each fuzz target, for TIME (2m) each
# make hostile takes files that are made to stop the program through all of it, and those in the folder HOSTILE
# make recognition recognizes pages of known text, beside the plain engine, and writes docs/RECOGNITION.md
# make editing edits paragraphs of real files, and writes docs/EDITING.md
# make lint   vet, gofmt and staticcheck
# make shots  pictures of the main views, into docs/screenshots
export CGO_ENABLED ?= 0
# HEIC pictures are read by the decoder that is in the program, and never by a library of the machine.
export GOFLAGS ?= -tags=nodynamic
SHELL := /bin/bash
ADDR ?= 127.0.0.1:8080
PAPERS ?= $(CURDIR)/.papers
TIME ?= 2m
SEED ?= 1
HOSTILE ?= $(CURDIR)/mutate/seeds

.PHONY: demo build test lint bench papers corpus agree walk hostile recognition editing fuzz shots vendor

demo: build
	-tools/need chromium:chromium tesseract:tesseract-ocr /usr/share/hunspell/en_US.dic:hunspell-en-us /usr/share/hunspell/en_GB.dic:hunspell-en-gb
	./glenrain demo --addr $(ADDR)

build:
	go build -o glenrain ./cmd/glenrain

test:
	tools/need qpdf:qpdf pdftotext:poppler-utils mutool:mupdf-tools chromium:chromium gcc:gcc tesseract:tesseract-ocr /usr/share/hunspell/en_US.dic:hunspell-en-us /usr/share/hunspell/de_DE.dic:hunspell-de-de /usr/share/tesseract-ocr/5/tessdata/deu.traineddata:tesseract-ocr-deu hunspell:hunspell openssl:openssl scanimage:sane-utils /usr/lib/$$(gcc -print-multiarch)/sane/libsane-airscan.so.1:sane-airscan
	$(MAKE) lint
	go test -count=1 ./core/raster # compiles PDFium once, for the tests of all packages
	go test -timeout 20m ./...
	CGO_ENABLED=1 go test -race -short ./desk/... ./web/...

lint:
	go vet ./...
	@bad=$$(gofmt -l .); if [ -n "$$bad" ]; then echo "gofmt wants: $$bad"; exit 1; fi
	go tool staticcheck ./...

bench: build
	tools/need qpdf:qpdf pdftoppm:poppler-utils
	GLENRAIN_PAPERS=$(PAPERS) go run ./bench > docs/BENCH.md.new && mv docs/BENCH.md.new docs/BENCH.md

papers: # poppler reads Chinese, Japanese and Korean by its data
	tools/need qpdf:qpdf pdftotext:poppler-utils /usr/share/poppler/cMap:poppler-data
	tools/papers $(PAPERS)

corpus: papers
	go run ./corpus anew $(PAPERS) docs/COMPATIBILITY.md
	go run ./corpus office $(PAPERS)/office docs/COMPATIBILITY.md

agree: papers
	tools/need mutool:mupdf-tools
	go run ./agree $(PAPERS) > docs/AGREEMENT.md.new && mv docs/AGREEMENT.md.new docs/AGREEMENT.md

walk: papers
	tools/need mutool:mupdf-tools
	GLENRAIN_PAPERS=$(PAPERS) go test ./web -run TestRealFiles -count=1 -timeout 60m
	go run ./corpus -seed $(SEED) walk $(PAPERS) docs/COMPATIBILITY.md

hostile:
	GLENRAIN_HOSTILE=$(HOSTILE) go test ./cmd/glenrain -run TestHostile -count=1 -v -timeout 30m

recognition: papers
	tools/need tesseract:tesseract-ocr /usr/share/tesseract-ocr/5/tessdata/deu.traineddata:tesseract-ocr-deu /usr/share/hunspell/en_US.dic:hunspell-en-us chromium:chromium pdftotext:poppler-utils
	GLENRAIN_PAPERS=$(PAPERS) go run ./recognition > docs/RECOGNITION.md.new && mv docs/RECOGNITION.md.new docs/RECOGNITION.md

editing: papers
	tools/need qpdf:qpdf pdftotext:poppler-utils mutool:mupdf-tools
	go run ./editing $(PAPERS) > docs/EDITING.md.new && mv docs/EDITING.md.new docs/EDITING.md

fuzz: papers
	go run ./mutate -time $(TIME) $(PAPERS)
	GLENRAIN_PAPERS=$(PAPERS) tools/fuzz $(TIME)

shots:
	tools/need chromium:chromium
	GLENRAIN_SHOTS=$(CURDIR)/docs/screenshots go test ./web -count=1 -run 'TestLooks|TestCollect|TestPileToText|TestStraightenAndSetText'

vendor:
	web/vendor.sh
