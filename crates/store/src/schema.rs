//! The tables that are reached through Diesel's query builder. The migrations are the truth about them.

diesel::table! {
    place (id) {
        id -> Uuid,
        kind -> Text,
        name -> Text,
        path -> Text,
        parent_id -> Nullable<Uuid>,
        created_at -> Timestamptz,
        weight -> Integer,
        slot_limit -> Nullable<Integer>,
        give_up_us -> Nullable<BigInt>,
        audiences -> Array<Text>,
    }
}

diesel::table! {
    seat (id) {
        id -> Uuid,
        name -> Text,
        description -> Text,
        count -> Integer,
        created_at -> Timestamptz,
        reserved_for -> Jsonb,
    }
}

diesel::table! {
    token (id) {
        id -> Uuid,
        name -> Text,
        secret_hash -> Bytea,
        role -> Text,
        created_at -> Timestamptz,
        expires_at -> Nullable<Timestamptz>,
        revoked_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    pool (id) {
        id -> Uuid,
        name -> Text,
        description -> Text,
        owner_id -> Uuid,
        labels -> Array<Text>,
        open -> Bool,
        policy_version -> Integer,
        created_at -> Timestamptz,
        narrow_to -> Array<Text>,
        widen_to -> Array<Text>,
        takes_untrusted -> Bool,
        asks_approval -> Bool,
        approved -> Array<Text>,
        paused -> Bool,
        needs -> Text,
        supply -> Nullable<Jsonb>,
        jobs -> Jsonb,
        removed_at -> Nullable<Timestamptz>,
    }
}

diesel::table! {
    pool_standing (pool_id) {
        pool_id -> Uuid,
        discovered -> Nullable<Jsonb>,
        price -> BigInt,
        coming -> Integer,
        short -> Nullable<Text>,
        full_at -> Nullable<Integer>,
        numbers -> Jsonb,
    }
}

diesel::table! {
    pool_policy (pool_id, version) {
        pool_id -> Uuid,
        version -> Integer,
        owner_id -> Uuid,
        labels -> Array<Text>,
        open -> Bool,
        since -> Timestamptz,
        set_by -> Text,
        narrow_to -> Array<Text>,
        widen_to -> Array<Text>,
        takes_untrusted -> Bool,
        asks_approval -> Bool,
        approved -> Array<Text>,
        paused -> Bool,
        supply -> Nullable<Jsonb>,
        jobs -> Jsonb,
    }
}

diesel::table! {
    outbox (id, at) {
        id -> BigInt,
        at -> Timestamptz,
        kind -> Text,
        subject -> Uuid,
        body -> Jsonb,
    }
}

diesel::table! {
    audit (id, at) {
        id -> BigInt,
        at -> Timestamptz,
        who -> Text,
        who_kind -> Text,
        address -> Nullable<Text>,
        request -> Nullable<Text>,
        place -> Text,
        what -> Text,
        subject -> Text,
        detail -> Jsonb,
    }
}

diesel::table! {
    queue_sample (at) {
        at -> Timestamptz,
        waiting -> Integer,
        executing -> Integer,
        idle -> Integer,
        coming -> Integer,
    }
}

diesel::table! {
    installation (one) {
        one -> Bool,
        id -> Uuid,
        name -> Text,
        key_id -> Text,
        log_store -> Uuid,
        created_at -> Timestamptz,
    }
}

diesel::joinable!(pool -> place (owner_id));
diesel::joinable!(pool_standing -> pool (pool_id));
diesel::allow_tables_to_appear_in_same_query!(token, pool, place, pool_standing);
