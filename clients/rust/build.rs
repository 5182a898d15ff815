fn main() {
    cynic_codegen::register_schema("huts")
        .from_sdl_file("schema.graphql")
        .expect("the service's schema is read")
        .as_default()
        .expect("it is the default");
}
