-- +goose Up
DROP TRIGGER captures_weighed; -- what is taken in is added to the weights once for many captures
