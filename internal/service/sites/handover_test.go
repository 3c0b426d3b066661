package sites

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nestseed/internal/service/records"
)

func TestALinkThatDoesNotOpenSaysWhy(t *testing.T) {
	at := time.Date(2026, 11, 25, 9, 30, 0, 0, time.UTC)
	require.Contains(t, closedLink(records.Handover{OpenedAt: &at}), "was opened on 25 November 2026, 09:30 UTC")
	require.Contains(t, closedLink(records.Handover{WithdrawnAt: &at}), "withdrawn")
	require.Contains(t, closedLink(records.Handover{ExpiresAt: at}), "ended on 25 November 2026")
}
