export { JoinPage } from "./JoinPage";
export { PersonMenu } from "./PersonMenu";
export { SetUpPage } from "./SetUpPage";
export { SignInAgain } from "./SignInAgain";
export { SignInPage } from "./SignInPage";
export { sessionQuery } from "./queries";
export { May, ROLES, useMay } from "./role";
