package provision

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nestseed/internal/core/rewrite"
)

func TestRulesForTheWebServerFollowTheFolderOfTheAddress(t *testing.T) {
	rules := "# BEGIN WordPress\nRewriteEngine On\nRewriteBase /blog/\nRewriteRule ^index\\.php$ - [L]\nRewriteRule . /blog/index.php [L]\n" +
		"ErrorDocument 404 /blog/lost\nRedirect 301 /blog/a /blog/b\nRedirect /blog http://other.example/blog\n\tFallbackResource " +
		"/blog/index.php\r\n" +
		"RewriteCond %{REQUEST_URI} ^/blog/\nRewriteBase /blogs/\nSetEnv A /blog/x\n"
	for _, x := range []struct{ old, fresh, want string }{
		{"http://base.example/blog", "http://alder.example",
			"# BEGIN WordPress\nRewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\n" +
				"RewriteRule . /index.php [L]\nErrorDocument 404 /lost\nRedirect 301 /a /b\nRedirect / http://other.example/blog\n" +
				"\tFallbackResource /index.php\r\nRewriteCond %{REQUEST_URI} ^/blog/\nRewriteBase /blogs/\nSetEnv A /blog/x\n"},
		{"http://base.example/blog/", "http://alder.example/blog", rules},
	} {
		p := &Plan{Rules: rewrite.Rules{Addresses: []rewrite.Pair{{Old: x.old, New: x.fresh}}}}
		require.Equal(t, x.want, string(p.rebaseRules([]byte(rules))))
	}
	p := &Plan{Rules: rewrite.Rules{Addresses: []rewrite.Pair{{Old: "http://base.example", New: "http://schools.example/alder"}}}}
	require.Equal(t, "RewriteBase /alder/\nRewriteRule . /alder/index.php [L]\nRewriteRule ^a$ b\n",
		string(p.rebaseRules([]byte("RewriteBase /\nRewriteRule . /index.php [L]\nRewriteRule ^a$ b\n"))))
	require.Equal(t, "RewriteBase /", string((&Plan{}).rebaseRules([]byte("RewriteBase /"))))
}
