/** The player library without subtitles, alternative audio and encryption, which these streams do not have. */
declare module "hls.js/light" {
  export { default } from "hls.js";
}
