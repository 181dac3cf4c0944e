"""Rules for Apache, in its configuration and in .htaccess."""
