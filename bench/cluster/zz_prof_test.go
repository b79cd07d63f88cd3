//go:build linux
package main
import ("testing";"fmt";"os";"strconv")
func TestZZ(t *testing.T){
 pid,_ := strconv.Atoi(os.Getenv("ZPID"))
 f := joins(os.Getenv("ZURL"), []int{pid})
 fmt.Printf("%.0f/s %.0f us\n", f.perSecond, f.micros)
}
