package check

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRulesThatTheCMSDoesNotWriteItselfAreTold(t *testing.T) {
	require.Empty(t, rulesIn("# BEGIN WordPress\n<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteRule . /index.php [L]\n</IfModule>\n# END WordPress\n", []string{"WordPress"}))
	require.Equal(t, []string{"Redirect 301 /a /b", "Require all denied"},
		rulesIn("# BEGIN Other\nRedirect 301 /a /b\n# END Other\n\n# a remark\n<Files x>\n  Require all denied\n</Files>\n", []string{"WordPress"}))
}
