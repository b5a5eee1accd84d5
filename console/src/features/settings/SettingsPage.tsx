import type { ReactNode } from "react";
import { useNavigate, useParams } from "react-router";

import { PageHead } from "../../ui/Page";
import { Tabs } from "../../ui/Tabs";
import { useMay } from "../session";
import { AccountSection } from "./AccountSection";
import { AlertsSection } from "./AlertsSection";
import { AppearanceSection } from "./AppearanceSection";
import { BackupSection } from "./BackupSection";
import { PeopleSection } from "./PeopleSection";
import { HoldingPicturesSection } from "./HoldingPicturesSection";
import { TokensSection } from "./TokensSection";

/** People and tokens, alerts, holding pictures, backup, appearance. */
export function SettingsPage(): ReactNode {
  const { section = "account" } = useParams();
  const navigate = useNavigate();
  const keeps = useMay("admin");
  const tabs = [
    { value: "account", label: "Password and sessions", content: <AccountSection /> },
    ...(keeps
      ? [
          { value: "people", label: "People", content: <PeopleSection /> },
          { value: "tokens", label: "Tokens", content: <TokensSection /> },
        ]
      : []),
    { value: "alerts", label: "Alerts", content: <AlertsSection /> },
    { value: "pictures", label: "Holding pictures", content: <HoldingPicturesSection /> },
    { value: "care", label: "Backup and health", content: <BackupSection /> },
    { value: "appearance", label: "Appearance", content: <AppearanceSection /> },
  ];
  return (
    <>
      <PageHead name="Settings" title="Settings" />
      <Tabs label="Settings" tabs={tabs} value={section} onChange={(value) => void navigate(`/settings/${value}`)} />
    </>
  );
}
