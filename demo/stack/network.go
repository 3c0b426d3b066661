package stack

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
)

// SubSite is one of the sites of a network.
type SubSite struct {
	Name  string // its folder, or the first part of its host name
	Title string
	Page  string // text of a page of its own
}

// makeNetwork is a program that makes a network of a WordPress site that stands, as its own page for that does where the address has no
// port.
const makeNetwork = `<?php
define( 'WP_INSTALLING', true );
require __DIR__ . '/wp-load.php';
require ABSPATH . 'wp-admin/includes/upgrade.php';
foreach ( $wpdb->tables( 'ms_global' ) as $table => $name ) {
	$wpdb->$table = $name;
}
define( 'WP_INSTALLING_NETWORK', true );
install_network();
$error = populate_network( 1, $_SERVER['HTTP_HOST'], get_option( 'admin_email' ), get_option( 'blogname' ), '/', %t );
echo is_wp_error( $error ) && 'no_wildcard_dns' !== $error->get_error_code() ? $error->get_error_message() : 'made';
`

// addSites is a program that adds sites to a network, each with a page and a picture of its own.
const addSites = `<?php
require __DIR__ . '/wp-load.php';
require ABSPATH . 'wp-admin/includes/admin.php';
foreach ( json_decode( base64_decode( '%[2]s' ) ) as $s ) {
	$host = %[1]t ? $s->Name . '.' . $_SERVER['HTTP_HOST'] : $_SERVER['HTTP_HOST'];
	$port = function ( $data ) use ( $host ) { // which WordPress leaves out
		return array( 'domain' => $host ) + $data;
	};
	add_filter( 'wp_normalize_site_data', $port, 20 );
	$id = wp_insert_site( array( 'domain' => $host, 'path' => %[1]t ? '/' : '/' . $s->Name . '/', 'title' => $s->Title, 'user_id' => 1, 'public' => 1 ) );
	remove_filter( 'wp_normalize_site_data', $port, 20 );
	if ( is_wp_error( $id ) ) {
		exit( $id->get_error_message() );
	}
	switch_to_blog( $id );
	$file = wp_upload_bits( $s->Name . '.png', null, base64_decode( 'iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==' ) );
	update_option( 'permalink_structure', '/%%postname%%/' );
	wp_insert_post( array( 'post_type' => 'page', 'post_status' => 'publish', 'post_title' => 'Lessons', 'post_name' => 'lessons',
		'post_content' => '<p>' . $s->Page . '</p><img src="' . $file['url'] . '" alt=""><a href="' . home_url( '/' ) . '">Start</a>' ) );
	update_option( 'loom_links', array( 'home' => home_url( '/lessons/' ) ) );
	wpmu_create_user( $s->Name . '-teacher', 'unsafe-0815', $s->Name . '@loomandladder.example' );
	add_user_to_blog( $id, get_user_by( 'login', $s->Name . '-teacher' )->ID, 'editor' );
	restore_current_blog();
}
echo 'made';
`

// InstallNetwork installs a WordPress site and makes a network of sites of it: in folders of its address or, apart, with a host name
// each before its own. Host names of networks begin with net-, which is what nginx has rules for.
func (s *Stack) InstallNetwork(ctx context.Context, wp WordPress, apart bool, sites []SubSite) error {
	if err := s.InstallWordPress(ctx, wp); err != nil {
		return err
	}
	if err := s.runOnce(wp.Name, fmt.Sprintf(makeNetwork, apart)); err != nil {
		return fmt.Errorf("make a network of %s: %w", wp.Name, err)
	}
	config := filepath.Join(s.Sites(), wp.Name, "wp-config.php")
	text, err := os.ReadFile(config)
	if err != nil {
		return err
	}
	const before = "/* That's all"
	lines := fmt.Sprintf("define( 'COOKIE_DOMAIN', '' ); // or it would have the port\ndefine( 'MULTISITE', true );\ndefine( 'SUBDOMAIN_INSTALL', %t );\ndefine( 'DOMAIN_CURRENT_SITE', '%s' );\n"+
		"define( 'PATH_CURRENT_SITE', '/' );\ndefine( 'SITE_ID_CURRENT_SITE', 1 );\ndefine( 'BLOG_ID_CURRENT_SITE', 1 );\n%s", apart,
		strings.TrimPrefix(s.Address(wp.Name), "http://"), before)
	if err := os.WriteFile(config, []byte(strings.Replace(string(text), before, lines, 1)), 0o640); err != nil {
		return err
	}
	list, err := json.Marshal(sites)
	if err != nil {
		return err
	}
	return s.runOnce(wp.Name, fmt.Sprintf(addSites, apart, base64.StdEncoding.EncodeToString(list)))
}

// runOnce runs a program of a site over HTTP. Errors: what it prints, unless that is that it made something.
func (s *Stack) runOnce(site, program string) error {
	file := filepath.Join(s.Sites(), site, "make-once.php")
	if err := os.WriteFile(file, []byte(program), 0o644); err != nil {
		return err
	}
	defer os.Remove(file)
	res, err := Client().Get(s.Address(site) + "/make-once.php")
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err == nil && (res.StatusCode != http.StatusOK || !strings.HasSuffix(string(body), "made")) {
		err = fmt.Errorf("it answers %d: %.600s", res.StatusCode, body)
	}
	return err
}
