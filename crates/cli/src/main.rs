//! p
fn main(){}
