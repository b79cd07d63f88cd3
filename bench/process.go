//go:build linux

package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tovik.example/tovik/bench/load"
)

// process is a child process: a service, a floor or a load.
type process struct {
	cmd   *exec.Cmd
	lines *bufio.Reader
	in    io.WriteCloser
}

func start(name string, args ...string) (*process, error) {
	cmd := exec.Command(name, args...)
	if filepath.Base(name) == filepath.Base(os.Args[0]) {
		cmd.Stderr = os.Stderr // the service's log is its own affair
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	return &process{cmd: cmd, lines: bufio.NewReaderSize(out, 1<<20), in: in}, cmd.Start()
}

// stop ends the process.
func (p *process) stop() {
	_ = p.cmd.Process.Signal(syscall.SIGTERM)
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(io.Discard, p.lines)
		_ = p.cmd.Wait()
	}()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		_ = p.cmd.Process.Kill()
		<-done
	}
}

// rss returns the resident memory of the process in KB.
func (p *process) rss() float64 {
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	check(err)
	_, rest, _ := strings.Cut(string(status), "VmRSS:")
	fields := strings.Fields(rest)
	return float64(must(strconv.Atoi(fields[0])))
}

// startService starts the binary, which it builds if necessary. It returns the address,
// HOST:PORT. Data is the directory of the records; empty stands for a new one.
func (s *stage) startService(data string) (*process, string) {
	if data == "" {
		return s.startServiceWith()
	}
	return s.startServiceWith("--data", data)
}

// startServiceWith starts the binary with more options than usual.
func (s *stage) startServiceWith(options ...string) (*process, string) {
	if !slices.Contains(options, "--data") {
		options = append(options, "--data", must(os.MkdirTemp(s.dir, "data-")))
	}
	p, err := start(s.binary, append([]string{"serve", "--requests-per-second", "10000000", "--listen", "127.0.0.1:0", "--operator-key", key, "--token-secret", secret,
		"--links-per-address", "100000", "--links-per-person", "100000"}, options...)...)
	check(err)
	for {
		line, err := p.lines.ReadString('\n')
		check(err)
		if _, rest, ok := strings.Cut(line, "://127."); ok {
			rest = "127." + rest
			go func() { _, _ = io.Copy(io.Discard, p.lines) }()
			return p, strings.TrimRight(strings.Fields(rest)[0], ";")
		}
	}
}

// startFloor starts this program as the floor.
func startFloor() (*process, string) {
	p, err := start(os.Args[0], "floor")
	check(err)
	line, err := p.lines.ReadString('\n')
	check(err)
	return p, strings.TrimSpace(line)
}

// crowd is a load.Crowd in a process of its own.
type crowd struct{ *process }

// order is one line of input of a crowd's process.
type order struct {
	Do   string     `json:"do"` // connect, return, send, forget, result, close
	Plan *load.Plan `json:"plan,omitempty"`
	Text string     `json:"text,omitempty"`
}

// report is one line of its output.
type report struct {
	Result load.Result `json:"result"`
	Error  string      `json:"error"`
}

func startCrowd(plan load.Plan) (crowd, load.Result) {
	p, err := start(os.Args[0], "crowd")
	check(err)
	c := crowd{p}
	return c, c.tell(order{Do: "connect", Plan: &plan})
}

func (c crowd) tell(o order) load.Result {
	check(json.NewEncoder(c.in).Encode(o))
	line, err := c.lines.ReadBytes('\n')
	check(err)
	var r report
	check(json.Unmarshal(line, &r))
	if r.Error != "" {
		check(errors.New(r.Error))
	}
	return r.Result
}

// beCrowd carries out orders from the standard input.
func beCrowd() error {
	var c *load.Crowd
	in, out := json.NewDecoder(os.Stdin), json.NewEncoder(os.Stdout)
	for {
		var o order
		if err := in.Decode(&o); err != nil {
			return nil // the bench is over
		}
		var r report
		var err error
		switch o.Do {
		case "connect":
			if c, err = load.Connect(*o.Plan); err == nil {
				r.Result = c.Result()
			}
		case "return":
			if c, err = c.Return(o.Plan.Address); err == nil {
				r.Result = c.Result()
			}
		case "send":
			err = c.Send(o.Text)
		case "forget":
			c.Forget()
		case "result":
			r.Result = c.Result()
		case "close":
			c.Close()
		}
		if err != nil {
			r.Error = err.Error()
		}
		if err := out.Encode(r); err != nil {
			return err
		}
	}
}
