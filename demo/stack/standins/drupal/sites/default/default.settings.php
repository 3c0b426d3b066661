<?php
/** Settings of a site; copy it to settings.php. */
$databases = [];
$settings['hash_salt'] = '';
