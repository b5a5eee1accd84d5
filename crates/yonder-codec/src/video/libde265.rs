//! Bindings to the H.265 decoder library `libde265.so.0`, which is loaded at run time.

#![expect(unsafe_code, reason = "foreign functions")]

use std::ffi::{c_char, c_int, c_void};
use std::marker::{PhantomData, PhantomPinned};
use std::ptr::NonNull;
use std::sync::OnceLock;

use libloading::Library;

/// File name of the library: the major version of its binary interface.
const FILE: &str = "libde265.so.0";
/// `DE265_OK`.
const OK: c_int = 0;
/// First code of warnings.
const FIRST_WARNING: c_int = 1_000;
/// `DE265_ERROR_WAITING_FOR_INPUT_DATA`.
pub(super) const WAITING_FOR_INPUT: c_int = 13;
/// `de265_chroma_420`.
pub(super) const CHROMA_420: c_int = 1;

/// `de265_decoder_context`.
#[repr(C)]
pub(super) struct Context {
    _data: [u8; 0],
    _marker: PhantomData<(*mut u8, PhantomPinned)>,
}

/// `de265_image`.
#[repr(C)]
pub(super) struct Image {
    _data: [u8; 0],
    _marker: PhantomData<(*mut u8, PhantomPinned)>,
}

/// Returns true unless a code is that of an error.
pub(super) fn is_ok(code: c_int) -> bool {
    code == OK || code == WAITING_FOR_INPUT || code >= FIRST_WARNING
}

/// Declares the functions of the library, and loads them.
macro_rules! functions {
    ($($(#[$doc:meta])* $name:ident: $symbol:literal fn($($argument:ty),*) $(-> $result:ty)?;)*) => {
        /// Functions of the library.
        #[derive(Debug)]
        pub(super) struct Functions {
            $($(#[$doc])* pub(super) $name: unsafe extern "C" fn($($argument),*) $(-> $result)?,)*
            /// Keeps the functions valid.
            _library: Library,
        }

        impl Functions {
            fn load() -> Result<Self, libloading::Error> {
                // SAFETY: the library has no initialization that depends on anything of this program.
                let library = unsafe { Library::new(FILE) }?;
                Ok(Self {
                    $($name: {
                        // SAFETY: the signature is that of the library's header for this version of its interface.
                        let symbol = unsafe {
                            library.get::<unsafe extern "C" fn($($argument),*) $(-> $result)?>($symbol.as_bytes())
                        }?;
                        *symbol
                    },)*
                    _library: library,
                })
            }
        }
    };
}

functions! {
    /// Creates a decoder; null if there is no memory.
    new_decoder: "de265_new_decoder" fn() -> *mut Context;
    /// Frees a decoder.
    free_decoder: "de265_free_decoder" fn(*mut Context) -> c_int;
    /// Passes a NAL unit, without a start code, to the decoder, which copies it.
    push_nal: "de265_push_NAL" fn(*mut Context, *const c_void, c_int, i64, *mut c_void) -> c_int;
    /// Marks the end of the stream: pictures that wait for others come out.
    flush_data: "de265_flush_data" fn(*mut Context) -> c_int;
    /// Discards everything.
    reset: "de265_reset" fn(*mut Context);
    /// Decodes one step. The last argument is set to 1 if there may be more to do.
    decode: "de265_decode" fn(*mut Context, *mut c_int) -> c_int;
    /// Returns the next picture in output order, valid until the next call; null if there is none.
    next_picture: "de265_get_next_picture" fn(*mut Context) -> *const Image;
    /// Returns the width of a plane, without what is cropped.
    image_width: "de265_get_image_width" fn(*const Image, c_int) -> c_int;
    /// Returns the height of a plane.
    image_height: "de265_get_image_height" fn(*const Image, c_int) -> c_int;
    /// Returns the chroma format.
    chroma_format: "de265_get_chroma_format" fn(*const Image) -> c_int;
    /// Returns the bits per sample of a plane.
    bits_per_pixel: "de265_get_bits_per_pixel" fn(*const Image, c_int) -> c_int;
    /// Returns the samples of a plane, and sets the stride in bytes.
    image_plane: "de265_get_image_plane" fn(*const Image, c_int, *mut c_int) -> *const u8;
    /// Returns the presentation time that was passed with the NAL units.
    image_pts: "de265_get_image_PTS" fn(*const Image) -> i64;
    /// Returns the text of an error.
    error_text: "de265_get_error_text" fn(c_int) -> *const c_char;
}

/// Returns the functions of the library; `None` while it is not installed.
pub(super) fn functions() -> Option<&'static Functions> {
    static FUNCTIONS: OnceLock<Functions> = OnceLock::new();
    if FUNCTIONS.get().is_none()
        && let Ok(loaded) = Functions::load()
    {
        // Another thread may have been faster.
        let _stored = FUNCTIONS.set(loaded);
    }
    FUNCTIONS.get()
}

/// Decoder of the library.
#[derive(Debug)]
pub(super) struct RawDecoder {
    pub(super) functions: &'static Functions,
    context: NonNull<Context>,
}

// SAFETY: a decoder may be used from any thread, one at a time.
unsafe impl Send for RawDecoder {}

impl RawDecoder {
    /// Creates a decoder; `None` without memory.
    pub(super) fn new(functions: &'static Functions) -> Option<Self> {
        // SAFETY: the function has no preconditions.
        let context = NonNull::new(unsafe { (functions.new_decoder)() })?;
        Some(Self { functions, context })
    }

    /// Returns the decoder for a call of one of the functions.
    pub(super) fn as_ptr(&mut self) -> *mut Context {
        self.context.as_ptr()
    }
}

impl Drop for RawDecoder {
    fn drop(&mut self) {
        // SAFETY: the context is valid, and not used after this.
        unsafe { (self.functions.free_decoder)(self.context.as_ptr()) };
    }
}
