// The bare program: it connects to every address of standard input, so many at a
// time, and counts those that take it. Benchmarks compare a sweep with it.
//
//	dial WIDE WAIT < ADDRESSES
package main

import (
	"bufio"
	"fmt"
	"net"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"
)

func main() {
	wide, err := strconv.Atoi(os.Args[1])
	if err != nil {
		panic(err)
	}
	wait, err := time.ParseDuration(os.Args[2])
	if err != nil {
		panic(err)
	}
	addresses := make(chan string)
	var took atomic.Int64
	var group sync.WaitGroup
	for range wide {
		group.Go(func() {
			for addr := range addresses {
				if conn, err := net.DialTimeout("tcp", addr, wait); err == nil {
					took.Add(1)
					conn.Close()
				}
			}
		})
	}
	for s := bufio.NewScanner(os.Stdin); s.Scan(); {
		addresses <- s.Text()
	}
	close(addresses)
	group.Wait()
	fmt.Println(took.Load())
}
