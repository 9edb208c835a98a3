// Package standin holds simulated devices that ship with Verge Keep: real SSH
// servers on loopback ports with made-up platforms behind them. They serve the
// demonstration, the tests and the benchmarks.
//
// They speak from their own definitions. Nothing here reads a dialect: if it
// did, prompts and syntax would agree by construction and prove nothing.
//
// A [Fleet] listens for any number of [Device] values, one loopback port each:
//
//	fleet := standin.NewFleet()
//	defer fleet.Close()
//	addr, err := fleet.Add(&standin.Device{Name: "ng-acc-1", Platform: standin.Tidegate, ...})
package standin
