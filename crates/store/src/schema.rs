//! The tables, as the migrations make them.

diesel::table! {
    subnet (id) {
        id -> Text,
        name -> Text,
        network -> Text,
        mode -> Text,
        router -> Nullable<Text>,
        dns -> Text,
        domain -> Nullable<Text>,
        ntp -> Text,
        lease_secs -> BigInt,
        pools -> Text,
        interface -> Nullable<Text>,
        relays -> Text,
        newcomers -> Text,
        exclusions -> Text,
        vlan -> Nullable<Integer>,
        probe -> Bool,
        authoritative -> Bool,
        head_start_ms -> BigInt,
        identify -> Text,
        http_boot -> Text,
        options -> Text,
        menu -> Nullable<Text>,
    }
}

diesel::table! {
    address_note (kind, mac) {
        kind -> Text,
        mac -> Text,
        address -> Text,
        at -> BigInt,
    }
}

diesel::table! {
    edition (entity) {
        entity -> Text,
        number -> BigInt,
    }
}

diesel::table! {
    reservation (address) {
        address -> Text,
        subnet_id -> Text,
        client -> Text,
    }
}

diesel::table! {
    lease (address) {
        address -> Text,
        subnet_id -> Text,
        client -> Text,
        state -> Text,
        since -> BigInt,
        until -> BigInt,
        version -> BigInt,
    }
}

diesel::table! {
    lease_journal (seq) {
        seq -> Integer,
        address -> Text,
        subnet_id -> Text,
        client -> Text,
        state -> Text,
        since -> BigInt,
        until -> BigInt,
        version -> BigInt,
    }
}

diesel::table! {
    loader (id) {
        id -> Text,
        name -> Text,
        architecture -> Text,
        class -> Nullable<Text>,
        user_class -> Nullable<Text>,
        boot_file -> Text,
        http -> Text,
        files -> Text,
        language -> Text,
        facts -> Text,
    }
}

diesel::table! {
    image (id) {
        id -> Text,
        name -> Text,
        title -> Text,
        kind -> Text,
        current_revision_id -> Text,
        last_number -> Integer,
    }
}

diesel::table! {
    image_number (name) {
        name -> Text,
        last -> Integer,
    }
}

diesel::table! {
    image_revision (id) {
        id -> Text,
        image_id -> Text,
        number -> Integer,
        created -> BigInt,
        family -> Text,
        parameters -> Text,
        without_parameters -> Text,
        files -> Text,
        start -> Text,
        cpu -> Nullable<Text>,
        volume -> Nullable<Text>,
        recognised -> Text,
        lacks -> Text,
        retired -> Nullable<BigInt>,
        verified -> Nullable<BigInt>,
        damaged -> Text,
    }
}

diesel::table! {
    answers_version (id) {
        id -> Text,
        name -> Text,
        number -> Integer,
        created -> BigInt,
        settings -> Text,
        removed -> Bool,
        scope -> Text,
    }
}

diesel::table! {
    machine (id) {
        id -> Text,
        name -> Text,
        default_boot -> Text,
        live_image_id -> Nullable<Text>,
        created -> BigInt,
        options -> Text,
        labels -> Text,
        details -> Text,
        parameters -> Text,
        without_parameters -> Text,
        menu -> Nullable<Text>,
        live_answers -> Nullable<Text>,
        given -> Text,
    }
}

diesel::table! {
    nic (mac) {
        mac -> Text,
        machine_id -> Text,
        place -> Integer,
    }
}

diesel::table! {
    install (number) {
        number -> BigInt,
        machine_id -> Text,
        machine_name -> Text,
        revision_id -> Text,
        image -> Text,
        image_title -> Text,
        image_revision -> Integer,
        manifest_hash -> Text,
        answers_id -> Text,
        answers_name -> Text,
        answers_version -> Integer,
        state -> Text,
        token -> Text,
        armed_by -> Text,
        armed_at -> BigInt,
        booting_at -> Nullable<BigInt>,
        installing_at -> Nullable<BigInt>,
        ended_at -> Nullable<BigInt>,
        answer_hash -> Nullable<Text>,
        kernel_fetches -> Integer,
        reason -> Nullable<Text>,
        last_step -> Nullable<Text>,
        last_step_at -> BigInt,
        layers -> Text,
        asked -> Text,
        open_questions -> Text,
        outcome -> Nullable<Text>,
        labels -> Text,
        subnet -> Nullable<Text>,
        is_stateless -> Bool,
        refused_from -> Text,
    }
}

diesel::table! {
    install_log (id) {
        id -> Integer,
        install_number -> BigInt,
        at -> BigInt,
        line -> Text,
    }
}

diesel::table! {
    machine_left (id) {
        id -> Text,
        name -> Text,
        macs -> Text,
        at -> BigInt,
    }
}

diesel::table! {
    webhook (name) {
        name -> Text,
        draft -> Text,
        signing_key -> Text,
    }
}

diesel::table! {
    delivery (id) {
        id -> Integer,
        webhook -> Text,
        install_number -> BigInt,
        event -> Text,
        body -> Text,
        created -> BigInt,
        attempts -> Integer,
        due -> Nullable<BigInt>,
        delivered -> Nullable<BigInt>,
        last_attempt -> Nullable<BigInt>,
        last_answer -> Nullable<Text>,
    }
}

diesel::table! {
    install_step (id) {
        id -> Integer,
        install_number -> BigInt,
        at -> BigInt,
        kind -> Text,
        detail -> Text,
    }
}

diesel::table! {
    survey (boot) {
        boot -> Text,
        mac -> Text,
        machine_id -> Nullable<Text>,
        previous -> Nullable<Text>,
        began -> BigInt,
        at -> BigInt,
        measured -> Text,
        changes -> Text,
        is_latest -> Bool,
    }
}

diesel::table! {
    job (number) {
        number -> BigInt,
        mac -> Text,
        machine_id -> Nullable<Text>,
        machine_name -> Text,
        kind -> Text,
        task -> Text,
        afterwards -> Nullable<Text>,
        state -> Text,
        armed_by -> Text,
        armed_at -> BigInt,
        boot -> Nullable<Text>,
        began_at -> Nullable<BigInt>,
        ended_at -> Nullable<BigInt>,
        kernel_fetches -> Integer,
        result -> Nullable<Text>,
        reason -> Nullable<Text>,
    }
}

diesel::table! {
    job_step (id) {
        id -> Integer,
        job_number -> BigInt,
        at -> BigInt,
        text -> Text,
    }
}

diesel::table! {
    job_log (job_number, place) {
        job_number -> BigInt,
        place -> BigInt,
        at -> BigInt,
        line -> Text,
    }
}

diesel::table! {
    job_screen (job_number, place) {
        job_number -> BigInt,
        place -> BigInt,
        at -> BigInt,
        kind -> Text,
        content -> Binary,
        total -> BigInt,
    }
}

diesel::table! {
    menu (id) {
        id -> Text,
        name -> Text,
        draft -> Text,
        guards -> Text,
    }
}

diesel::table! {
    label (name) {
        name -> Text,
        rank -> Integer,
        parameters -> Text,
        without_parameters -> Text,
        menu -> Nullable<Text>,
        image -> Nullable<Text>,
        answers -> Nullable<Text>,
    }
}

diesel::table! {
    site_settings (id) {
        id -> Integer,
        settings -> Text,
    }
}

diesel::table! {
    rule (name) {
        name -> Text,
        rank -> Integer,
        mode -> Text,
        condition -> Text,
        labels -> Text,
        details -> Text,
        location -> Bool,
        machine_name -> Nullable<Text>,
        address -> Nullable<Text>,
        default_boot -> Nullable<Text>,
        arm -> Bool,
        image -> Nullable<Text>,
        answers -> Nullable<Text>,
        hourly_limit -> Integer,
        jobs -> Text,
    }
}

diesel::table! {
    proposal (mac) {
        mac -> Text,
        since -> BigInt,
        declined -> Nullable<Text>,
    }
}

diesel::table! {
    rule_use (id) {
        id -> Integer,
        at -> BigInt,
        rule -> Text,
        machine -> Text,
        mac -> Text,
        counter -> Nullable<BigInt>,
        changes -> Text,
        who -> Nullable<Text>,
    }
}

diesel::table! {
    location (switch, port) {
        switch -> Text,
        port -> Text,
        hall -> Text,
        row -> Text,
        rack -> Text,
        unit -> Text,
    }
}

diesel::allow_tables_to_appear_in_same_query!(image, image_revision);
diesel::allow_tables_to_appear_in_same_query!(machine, nic);
