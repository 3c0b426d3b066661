<?php
/** A stand-in for Drupal, for demos and tests: see README.md beside it. */
class Drupal {
  const VERSION = '10.2.4';
  const MINIMUM_PHP = '8.1.0';
}
