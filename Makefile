# make build   the static program, bin/uakari
# make demo    the made-up world: broken, traced, mended, traced again
# make test    all tests; live ones skip where their server is missing
# make bench   ratios to bare programs, in one run
# make referee 200,000 random packets judged by the kernel and by us, with a fixed and a fresh seed
# make man     the manual pages, from the commands themselves
# make fuzz    each fuzz target for a while

export CGO_ENABLED = 0

.PHONY: build demo test bench referee fuzz man clean

build:
	go build -trimpath -ldflags="-s -w" -o bin/uakari ./cmd/uakari

demo: build
	bin/uakari demo

test:
	go test -count=1 -parallel 4 -timeout 30m ./...

bench:
	go test ./test -run XXX -bench . -benchtime 1x

referee:
	go test ./test -timeout 60m -run TestReferee -v -referee 200000 -referee-seed 1
	go test ./test -timeout 60m -run TestReferee -v -referee 200000 -referee-seed $$(date +%s)

fuzz:
	go test ./internal/endpoint -run XXX -fuzz FuzzParse -fuzztime 30s
	go test ./internal/card -run XXX -fuzz FuzzParse -fuzztime 30s
	go test ./internal/wire -run XXX -fuzz FuzzPeer -fuzztime 30s -fuzzminimizetime 10x
	go test ./internal/look/session -run XXX -fuzz FuzzServerWord -fuzztime 30s
	go test ./internal/look/host -run XXX -fuzz FuzzSettings -fuzztime 30s
	go test ./internal/filter -run XXX -fuzz FuzzParse -fuzztime 30s -fuzzminimizetime 10x
	go test ./internal/filter -run XXX -fuzz FuzzNetlink -fuzztime 30s -fuzzminimizetime 10x
	go test ./internal/weigh -run XXX -fuzz FuzzWeigh -fuzztime 30s -fuzzminimizetime 10x

man:
	go test ./internal/cli -run TestManual -update

clean:
	rm -rf bin
