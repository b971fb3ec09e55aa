# make build   the static program, bin/uakari
# make demo    the made-up world: broken, traced, mended, traced again
# make test    all tests; live ones skip where their server is missing
# make bench   ratios to bare programs, in one run
# make referee 200,000 random packets judged by the kernel and by us, with a fixed and a fresh seed
# make acceptance  servers from Debian's packages, broken in the ways of everyday, and how often the cause is named
# make dist    what is handed out, in the folder OUT (build/dist): programs, packages, checksums
# make mutants  changes of the code that no test notices: of MUTANTS (46), in the packages OF
# make man     the manual pages, from the commands themselves
# make fuzz    every fuzz target for FUZZTIME each (30s)

export CGO_ENABLED = 0

FUZZTIME ?= 30s

.PHONY: build demo test bench referee fuzz acceptance mutants dist man clean

build:
	go build -trimpath -ldflags="-s -w" -o bin/uakari ./cmd/uakari

demo: build
	bin/uakari demo

test:
	go test -count=1 -parallel 4 -timeout 30m ./...

bench:
	go test ./test ./internal/casebook -run XXX -bench . -benchtime 1x

referee:
	go test ./test -timeout 60m -run TestReferee -v -referee 200000 -referee-seed 1
	go test ./test -timeout 60m -run TestReferee -v -referee 200000 -referee-seed $$(date +%s)

fuzz:
	@grep -rl '^func Fuzz' --include=*_test.go internal | xargs -n1 dirname | sort -u | while read dir; do \
		for target in $$(grep -ho '^func Fuzz[A-Za-z]*' $$dir/*_test.go | cut -c6-); do \
			echo "== $$dir $$target"; \
			go test ./$$dir -run XXX -fuzz "^$$target$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 10x || exit 1; \
		done; done

acceptance:
	UAKARI_ACCEPTANCE=all UAKARI_LIVE=all go test -count=1 -timeout 60m ./test -run TestAcceptance -v | grep -v '^          '

OUT ?= build/dist

dist:
	cd dist && go run . .. $(abspath $(OUT))

MUTANTS ?= 46
OF ?= internal/weigh internal/filter internal/casebook internal/sweep internal/vantage

mutants:
	go run ./test/mutants -count $(MUTANTS) $(OF)

man:
	go test ./internal/cli -run 'TestManual|TestProgramsPage' -update

clean:
	rm -rf bin build
