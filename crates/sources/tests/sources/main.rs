//! Sources at work from outside: profiles that ask small servers, and answers in every form.

mod common;

mod asking;
mod decode;
mod ftp;
mod hints;
mod pressure;
mod shapes;
