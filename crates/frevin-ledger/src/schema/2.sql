-- What a profile that builds on others came to when it was saved; null where it stands alone.
ALTER TABLE revision ADD COLUMN stands_alone TEXT;
