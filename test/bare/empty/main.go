// The empty program: what starting any Go program costs.
package main

func main() {}
