package cli

import (
	"context"
	"errors"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"trevak/internal/fault"
	"trevak/internal/render"
	"trevak/internal/sandbox"
)

// errChild says that a command which was run for the user has failed and said why.
var errChild = errors.New("the command has failed")

func (a *app) sandbox() *cobra.Command {
	var listen, dir string
	var trouble sandbox.Trouble
	cmd := &cobra.Command{
		Use:   "sandbox [-- COMMAND…]",
		Short: "Serve a small object store over a folder, to try things on",
		Long: `Sandbox serves a store of the S3 protocol over a folder, with a catalog of Iceberg's REST protocol for tables in it, until it is
stopped, and shows the environment by which commands reach it. Buckets are made when they are first named. Behind -- stands a command
of this program, which is run against the store; the sandbox ends after it, with its exit code. It listens to this machine alone unless
--listen says otherwise; anybody who reaches it may read and write.

With the flags for trouble it does what large stores do at times: it takes long, refuses, cuts connections off, loses answers, and lists
what was there a moment ago. With --guard the catalog wants a token, which it gives for the id "sandbox" and the secret "sandbox-secret",
and the store takes only the keys that the catalog gives with a table, each for that time.`,
		Example: `  trevak sandbox -- convert trevak-demo/stations/stations.csv --to s3://orrin/stations.parquet
  trevak sandbox --throttle 5 --lose 3 -- load trevak-demo/observations --into harbour.observations -w s3://orrin/warehouse
  trevak sandbox -- preview s3://orrin/stations.parquet`,
		RunE: func(cmd *cobra.Command, args []string) error {
			endpoint, failed, stop, err := serve(dir, listen, trouble)
			if err != nil {
				return err
			}
			defer stop()
			if len(args) > 0 {
				return a.against(cmd.Context(), endpoint, args)
			}
			served := render.Sandbox{Endpoint: endpoint, Dir: dir, Environment: sandboxed(endpoint)}
			if a.json() {
				err = a.writeJSON(served.JSON())
			} else {
				err = served.Show(a.screen())
			}
			if err != nil {
				return err
			}
			select {
			case err := <-failed:
				return fault.Wrap(fault.Storage, err, "the sandbox at %s has ended", endpoint)
			case <-cmd.Context().Done():
				return nil
			}
		},
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "`address` to listen to, with port 0 for any that is free")
	cmd.Flags().StringVar(&dir, "dir", "sandbox", "`folder` in which the objects lie")
	cmd.Flags().DurationVar(&trouble.Latency, "latency", 0, "answer only after a `time` like 20ms")
	cmd.Flags().IntVar(&trouble.Throttle, "throttle", 0, "refuse one request of `n`, as from a store that is asked too often")
	cmd.Flags().Int64Var(&trouble.Cut, "cut", 0, "cut the connection off after `n` bytes of each object that is read")
	cmd.Flags().IntVar(&trouble.CutEvery, "cut-every", 0, "cut off one of `n` answers instead of all")
	cmd.Flags().IntVar(&trouble.Lose, "lose", 0, "carry out one write of `n` and lose the answer")
	cmd.Flags().DurationVar(&trouble.Stale, "stale", 0, "leave objects out of listings for a `time` after they were written")
	cmd.Flags().BoolVar(&trouble.Expired, "expired", false, "refuse all requests, as from credentials that have expired")
	cmd.Flags().DurationVar(&trouble.Guard, "guard", 0, "ask who is there, with tokens and keys that hold for a `time` like 10m")
	return cmd
}

// serve begins to serve a folder at an address, until stop is called; failed tells when it ends before.
func serve(dir, listen string, trouble sandbox.Trouble) (endpoint string, failed <-chan error, stop func(), err error) {
	store, err := sandbox.New(dir, trouble)
	if err != nil {
		return "", nil, nil, err
	}
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		e := fault.New(fault.Usage, "the address %s cannot be listened to", listen).Try("name another, or 127.0.0.1:0 for any that is free")
		e.Cause = err
		return "", nil, nil, e
	}
	server := &http.Server{Handler: store, ReadHeaderTimeout: time.Minute}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	return "http://" + listener.Addr().String(), ended, func() { server.Close() }, nil
}

// sandboxed is the environment by which commands reach a sandbox.
func sandboxed(endpoint string) []string {
	return []string{"AWS_ENDPOINT_URL=" + endpoint, "AWS_ACCESS_KEY_ID=sandbox", "AWS_SECRET_ACCESS_KEY=sandbox", "AWS_REGION=us-east-1"}
}

// against runs this program with arguments in the environment of a sandbox.
func (a *app) against(ctx context.Context, endpoint string, args []string) error {
	self, err := os.Executable()
	if err != nil {
		return fault.Wrap(fault.Storage, err, "where this program lies cannot be told")
	}
	child := exec.CommandContext(ctx, self, args...)
	child.Cancel = func() error { return child.Process.Signal(os.Interrupt) }
	child.WaitDelay = 2 * patience
	child.Env = os.Environ()
	for i := 0; i < len(child.Env); i++ {
		// What names another store would count as well.
		if strings.HasPrefix(child.Env[i], "AWS_") {
			child.Env = append(child.Env[:i], child.Env[i+1:]...)
			i--
		}
	}
	child.Env = append(child.Env, sandboxed(endpoint)...)
	child.Stdin, child.Stdout, child.Stderr = os.Stdin, os.Stdout, os.Stderr
	err = child.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return &childError{max(exit.ExitCode(), 1)}
	}
	if err != nil {
		return fault.Wrap(fault.Storage, err, "the command cannot be run")
	}
	return nil
}

// childError is errChild with the exit code.
type childError struct{ code int }

func (e *childError) Error() string        { return errChild.Error() }
func (e *childError) Is(target error) bool { return target == errChild }
