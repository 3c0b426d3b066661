package stack

import (
	"context"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
)

// The networks that the tests are made with are what they say: each site answers at its own address, with its own pages and log-in.
func TestANetworkHasSitesOfItsOwn(t *testing.T) {
	s := ForTest(t)
	ctx := context.Background()
	require.NoError(t, s.StartMariaDB(ctx))
	require.NoError(t, s.StartWeb(ctx))
	for name, apart := range map[string]bool{"net-folders": false, "net-hosts": true} {
		require.NoError(t, s.InstallNetwork(ctx, WordPress{Name: name, Title: "Branches", Database: "x_" + name[4:], Prefix: "lad_",
			DatabasePassword: "branches-db-0815", AdminPassword: "branches-admin-0815", Salt: "pepper", AdminEmail: "ines@loomandladder.example"},
			apart, []SubSite{{"drums", "Drums", "Sticks and skins"}, {"strings", "Strings", "Gut and steel"}}))
		at := s.Address(name)
		sub := at + "/drums"
		if apart {
			sub = s.Address("drums." + name)
		}
		for page, says := range map[string]string{at + "/": "Branches", sub + "/": "Drums", sub + "/lessons/": "Sticks and skins",
			sub + "/wp-login.php": "user_login"} {
			res, err := Client().Get(page)
			require.NoError(t, err)
			body, _ := io.ReadAll(res.Body)
			res.Body.Close()
			require.Equal(t, 200, res.StatusCode, "%s: %.300s", page, body)
			require.Contains(t, string(body), says, page)
		}
	}
}
