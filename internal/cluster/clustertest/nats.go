package clustertest

import (
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"
)

// User and Password are those of the account at [StartBroker], which may use one cluster only.
const (
	User     = "tovik"
	Password = "the-door-of-the-broker"
)

// StartBroker starts an external broker, whose account may use the subjects and streams of one cluster.
func StartBroker(t *testing.T, cluster string, more func(*server.Options)) *server.Server {
	own := []string{cluster + ".>", "_INBOX.>"}
	calls := []string{"$JS.FC.>"}
	for _, stream := range []string{cluster + "-log", cluster + "-table"} {
		for _, call := range []string{"STREAM.INFO", "STREAM.CREATE", "STREAM.UPDATE", "STREAM.MSG.GET", "CONSUMER.CREATE", "CONSUMER.DELETE"} {
			calls = append(calls, "$JS.API."+call+"."+stream, "$JS.API."+call+"."+stream+".>")
		}
	}
	o := &server.Options{Host: "127.0.0.1", Port: server.RANDOM_PORT, NoSigs: true, NoLog: true, JetStream: true, StoreDir: t.TempDir(), SyncAlways: true, MaxPayload: 8 << 20,
		Users: []*server.User{{Username: User, Password: Password, Permissions: &server.Permissions{Publish: &server.SubjectPermission{Allow: append(calls, own...)}, Subscribe: &server.SubjectPermission{Allow: own}, Response: &server.ResponsePermission{MaxMsgs: 1, Expires: time.Minute}}}}}
	if more != nil {
		more(o)
	}
	s, err := server.NewServer(o)
	require.NoError(t, err)
	s.Start()
	require.True(t, s.ReadyForConnections(time.Minute))
	t.Cleanup(func() { s.Shutdown(); s.WaitForShutdown() })
	return s
}
