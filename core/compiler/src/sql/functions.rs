//! The functions that statements may call where a database's settings name no others: MariaDB's own that compute
//! their result from their arguments, the rows and the clock. Functions that take locks, wait, read files or
//! sessions, or change either are not among them.

/// Names in lower case, in alphabetical order.
#[rustfmt::skip]
pub(super) const FUNCTIONS: &[&str] = &[
    "abs", "acos", "add_months", "adddate", "addtime", "aes_decrypt", "aes_encrypt", "ascii", "asin", "atan",
    "atan2", "avg", "bin", "bit_and", "bit_count", "bit_length", "bit_or", "bit_xor", "ceil", "ceiling", "char",
    "char_length", "character_length", "chr", "coalesce", "compress", "concat", "concat_ws", "conv", "convert",
    "convert_tz", "cos", "cot", "count", "crc32", "crc32c", "cume_dist", "curdate", "current_date", "current_time",
    "current_timestamp", "curtime", "date", "date_add", "date_format", "date_sub", "datediff", "day", "dayname",
    "dayofmonth", "dayofweek", "dayofyear", "default", "degrees", "dense_rank", "elt", "exp", "export_set",
    "extract", "extractvalue", "field", "find_in_set", "first_value", "floor", "format", "from_base64", "from_days",
    "from_unixtime", "get_format", "greatest", "group_concat", "hex", "hour", "if", "ifnull", "inet6_aton",
    "inet6_ntoa", "inet_aton", "inet_ntoa", "insert", "instr", "interval", "is_ipv4", "is_ipv4_compat",
    "is_ipv4_mapped", "is_ipv6", "isnull", "json_array", "json_array_append", "json_array_insert",
    "json_array_intersect", "json_arrayagg", "json_compact", "json_contains", "json_contains_path", "json_depth",
    "json_detailed", "json_equals", "json_exists", "json_extract", "json_insert", "json_keys", "json_length",
    "json_loose", "json_merge", "json_merge_patch", "json_merge_preserve", "json_normalize", "json_object",
    "json_object_to_array", "json_objectagg", "json_overlaps", "json_pretty", "json_query", "json_quote",
    "json_remove", "json_replace", "json_search", "json_set", "json_type", "json_unquote", "json_valid",
    "json_value", "lag", "last_day", "last_value", "lcase", "lead", "least", "left", "length", "lengthb",
    "linestring", "ln", "localtime", "localtimestamp", "locate", "log", "log10", "log2", "lower", "lpad", "ltrim",
    "make_set", "makedate", "maketime", "max", "mbrcontains", "mbrintersects", "mbrwithin", "md5", "median",
    "microsecond", "mid", "min", "minute", "mod", "month", "monthname", "months_between", "natural_sort_key", "now",
    "nth_value", "ntile", "nullif", "nvl", "nvl2", "oct", "octet_length", "ord", "percent_rank", "percentile_cont",
    "percentile_disc", "period_add", "period_diff", "pi", "point", "polygon", "position", "pow", "power", "quarter",
    "quote", "radians", "rand", "random_bytes", "rank", "regexp_instr", "regexp_replace", "regexp_substr", "repeat",
    "replace", "reverse", "right", "round", "row", "row_number", "rpad", "rtrim", "sec_to_time", "second",
    "sformat", "sha", "sha1", "sha2", "sign", "sin", "soundex", "space", "sqrt", "st_area", "st_asgeojson",
    "st_astext", "st_aswkb", "st_buffer", "st_centroid", "st_contains", "st_distance", "st_distance_sphere",
    "st_envelope", "st_geomfromgeojson", "st_geomfromtext", "st_geomfromwkb", "st_intersects", "st_isvalid",
    "st_length", "st_pointfromtext", "st_srid", "st_touches", "st_within", "st_x", "st_y", "std", "stddev",
    "stddev_pop", "stddev_samp", "str_to_date", "strcmp", "subdate", "substr", "substring", "substring_index",
    "subtime", "sum", "sysdate", "tan", "time", "time_format", "time_to_sec", "timediff", "timestamp",
    "timestampadd", "timestampdiff", "to_base64", "to_char", "to_days", "to_seconds", "trim", "trim_oracle",
    "truncate", "ucase", "uncompress", "uncompressed_length", "unhex", "unix_timestamp", "updatexml", "upper",
    "utc_date", "utc_time", "utc_timestamp", "uuid", "uuid_short", "value", "values", "var_pop", "var_samp",
    "variance", "week", "weekday", "weekofyear", "weight_string", "year", "yearweek",
];

#[cfg(test)]
mod tests {
    use super::FUNCTIONS;

    #[test]
    fn the_list_is_sorted_and_has_no_function_with_effects() {
        assert!(FUNCTIONS.is_sorted());
        for name in [
            "benchmark",
            "connection_id",
            "found_rows",
            "get_lock",
            "last_insert_id",
            "lastval",
            "load_file",
            "master_pos_wait",
            "nextval",
            "release_all_locks",
            "release_lock",
            "row_count",
            "setval",
            "sleep",
        ] {
            assert!(FUNCTIONS.binary_search(&name).is_err(), "{name}");
        }
    }
}
