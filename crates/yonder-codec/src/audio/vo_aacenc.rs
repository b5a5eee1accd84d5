//! Bindings to the AAC encoder of the library vo-aacenc (headers `voAAC.h`, `voAudio.h`, `voMem.h`, `cmnMemory.h`,
//! `voType.h`).
#![expect(unsafe_code, reason = "the encoder is a C library")]

use std::ffi::{c_int, c_long, c_longlong, c_short, c_uchar, c_ulong, c_void};
use std::ptr;

use crate::error::CodecError;

/// `VO_ERR_NONE`.
const NO_ERROR: c_ulong = 0;
/// `VO_AUDIO_CodingAAC`.
const CODING_AAC: c_int = 8;
/// `VO_PID_AAC_ENCPARAM`.
const ENCODER_PARAMETERS: c_long = 0x4221_1040;

type Handle = *mut c_void;

/// `VO_CODECBUFFER`.
#[repr(C)]
struct CodecBuffer {
    buffer: *mut c_uchar,
    length: c_ulong,
    time: c_longlong,
}

/// `VO_AUDIO_OUTPUTINFO`, with its `VO_AUDIO_FORMAT`.
#[repr(C)]
#[derive(Default)]
struct OutputInfo {
    sample_rate: c_long,
    channels: c_long,
    sample_bits: c_long,
    input_used: c_ulong,
    reserved: c_ulong,
}

/// `AACENC_PARAM`.
#[repr(C)]
struct Parameters {
    sample_rate: c_int,
    bit_rate: c_int,
    channels: c_short,
    adts: c_short,
}

/// `VO_AUDIO_CODECAPI`.
#[repr(C)]
#[derive(Clone, Copy)]
struct Api {
    init: Option<unsafe extern "C" fn(*mut Handle, c_int, *mut c_void) -> c_ulong>,
    set_input: Option<unsafe extern "C" fn(Handle, *mut CodecBuffer) -> c_ulong>,
    get_output: Option<unsafe extern "C" fn(Handle, *mut CodecBuffer, *mut OutputInfo) -> c_ulong>,
    set_parameter: Option<unsafe extern "C" fn(Handle, c_long, *mut c_void) -> c_ulong>,
    get_parameter: Option<unsafe extern "C" fn(Handle, c_long, *mut c_void) -> c_ulong>,
    uninit: Option<unsafe extern "C" fn(Handle) -> c_ulong>,
}

/// `VO_MEM_OPERATOR`.
#[repr(C)]
struct MemoryOperator {
    alloc: unsafe extern "C" fn(c_long, *mut c_void) -> c_ulong,
    free: unsafe extern "C" fn(c_long, *mut c_void) -> c_ulong,
    set: unsafe extern "C" fn(c_long, *mut c_void, c_uchar, c_ulong) -> c_ulong,
    copy: unsafe extern "C" fn(c_long, *mut c_void, *mut c_void, c_ulong) -> c_ulong,
    check: unsafe extern "C" fn(c_long, *mut c_void, c_ulong) -> c_ulong,
    compare: unsafe extern "C" fn(c_long, *mut c_void, *mut c_void, c_ulong) -> c_long,
    move_bytes: unsafe extern "C" fn(c_long, *mut c_void, *mut c_void, c_ulong) -> c_ulong,
}

/// `VO_CODEC_INIT_USERDATA`, with the memory flag `VO_IMF_USERMEMOPERATOR`.
#[repr(C)]
struct InitUserData {
    memory_flag: c_int,
    memory: *mut c_void,
    reserved_1: c_ulong,
    reserved_2: c_ulong,
}

unsafe extern "C" {
    fn voGetAACEncAPI(api: *mut Api) -> c_long;
    fn cmnMemAlloc(id: c_long, info: *mut c_void) -> c_ulong;
    fn cmnMemFree(id: c_long, buffer: *mut c_void) -> c_ulong;
    fn cmnMemSet(id: c_long, buffer: *mut c_void, value: c_uchar, size: c_ulong) -> c_ulong;
    fn cmnMemCopy(id: c_long, to: *mut c_void, from: *mut c_void, size: c_ulong) -> c_ulong;
    fn cmnMemCheck(id: c_long, buffer: *mut c_void, size: c_ulong) -> c_ulong;
    fn cmnMemCompare(id: c_long, a: *mut c_void, b: *mut c_void, size: c_ulong) -> c_long;
    fn cmnMemMove(id: c_long, to: *mut c_void, from: *mut c_void, size: c_ulong) -> c_ulong;
}

/// Memory functions of the library itself, which use `malloc`. The library refers to them until the encoder ends.
static MEMORY: MemoryOperator = MemoryOperator {
    alloc: cmnMemAlloc,
    free: cmnMemFree,
    set: cmnMemSet,
    copy: cmnMemCopy,
    check: cmnMemCheck,
    compare: cmnMemCompare,
    move_bytes: cmnMemMove,
};

/// Instance of the encoder.
#[derive(Debug)]
pub(crate) struct VoAacEncoder {
    api: ApiTable,
    handle: Handle,
}

/// Function table, all of whose entries are set.
#[derive(Debug, Clone, Copy)]
struct ApiTable {
    set_input: unsafe extern "C" fn(Handle, *mut CodecBuffer) -> c_ulong,
    get_output: unsafe extern "C" fn(Handle, *mut CodecBuffer, *mut OutputInfo) -> c_ulong,
    uninit: unsafe extern "C" fn(Handle) -> c_ulong,
}

// SAFETY: the library keeps all state of an instance behind its handle and uses no thread-local data.
unsafe impl Send for VoAacEncoder {}

impl VoAacEncoder {
    /// Creates an encoder of raw AAC-LC frames. `bit_rate` is in bits per second.
    ///
    /// # Errors
    /// [`CodecError::Encoder`] with the library's code, such as for an unsupported rate.
    pub(crate) fn new(sample_rate: u32, channels: u8, bit_rate: u32) -> Result<Self, CodecError> {
        let mut api = Api {
            init: None,
            set_input: None,
            get_output: None,
            set_parameter: None,
            get_parameter: None,
            uninit: None,
        };
        // SAFETY: `api` has the layout of `VO_AUDIO_CODECAPI`, and the function only fills it.
        let filled = unsafe { voGetAACEncAPI(&raw mut api) };
        let (0, Some(init), Some(set_input), Some(get_output), Some(set_parameter), Some(uninit)) =
            (filled, api.init, api.set_input, api.get_output, api.set_parameter, api.uninit)
        else {
            return Err(CodecError::Encoder(u64::MAX));
        };
        let mut handle: Handle = ptr::null_mut();
        let memory = ptr::from_ref(&MEMORY).cast_mut().cast();
        let mut user = InitUserData { memory_flag: 0, memory, reserved_1: 0, reserved_2: 0 };
        // SAFETY: the function is from the library's table, the user data has the layout of `VO_CODEC_INIT_USERDATA`, and
        // the memory functions are static; the library only reads them.
        check(unsafe { init(&raw mut handle, CODING_AAC, (&raw mut user).cast()) })?;
        let encoder = Self { api: ApiTable { set_input, get_output, uninit }, handle };
        let number = |value: u32| c_int::try_from(value).unwrap_or(c_int::MAX);
        let mut parameters = Parameters {
            sample_rate: number(sample_rate),
            bit_rate: number(bit_rate),
            channels: c_short::from(channels),
            adts: 0,
        };
        // SAFETY: the handle is valid until `uninit`, and the parameters have the layout of `AACENC_PARAM`, which the
        // function copies.
        check(unsafe { set_parameter(encoder.handle, ENCODER_PARAMETERS, (&raw mut parameters).cast()) })?;
        Ok(encoder)
    }

    /// Encodes one frame of interleaved samples: 1024 per channel. Returns the size of the frame written to `out`.
    ///
    /// # Errors
    /// [`CodecError::Encoder`] with the library's code; `out` must hold 768 bytes per channel, the maximum of AAC.
    pub(crate) fn encode(&mut self, samples: &mut [i16], out: &mut [u8]) -> Result<usize, CodecError> {
        let mut input = CodecBuffer {
            buffer: samples.as_mut_ptr().cast(),
            length: length(size_of_val(samples)),
            time: 0,
        };
        // SAFETY: the samples outlive the call of `get_output` below, which is the last that reads them.
        check(unsafe { (self.api.set_input)(self.handle, &raw mut input) })?;
        let mut output = CodecBuffer { buffer: out.as_mut_ptr(), length: length(out.len()), time: 0 };
        let mut info = OutputInfo::default();
        // SAFETY: the function writes at most `length` bytes to `out`.
        check(unsafe { (self.api.get_output)(self.handle, &raw mut output, &raw mut info) })?;
        Ok(usize::try_from(output.length).unwrap_or(0).min(out.len()))
    }
}

impl Drop for VoAacEncoder {
    fn drop(&mut self) {
        // SAFETY: the handle is from `init`, and is not used afterwards.
        unsafe { (self.api.uninit)(self.handle) };
    }
}

fn check(code: c_ulong) -> Result<(), CodecError> {
    if code == NO_ERROR { Ok(()) } else { Err(CodecError::Encoder(code)) }
}

fn length(bytes: usize) -> c_ulong {
    c_ulong::try_from(bytes).unwrap_or(c_ulong::MAX)
}
