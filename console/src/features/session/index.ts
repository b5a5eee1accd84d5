export { PersonMenu } from "./PersonMenu";
export { SetUpPage } from "./SetUpPage";
export { SignInPage } from "./SignInPage";
export { sessionQuery } from "./queries";
