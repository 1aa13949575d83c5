use super::*;

#[test]
fn the_demo_orders_and_the_stored_snapshot_read() {
    let judge = orders();
    assert_eq!(judge.brief.rules.len(), 9);
    let speaking =
        |judge: &LoadedPolicy| judge.brief.rules().filter(|rule| rule.is_active()).count();
    assert_eq!((speaking(&judge), speaking(&mistaken())), (8, 7));
    assert_ne!(meant().text, judge.text);
    assert_eq!(stored().unwrap().listeners.len(), 4);
    assert!(stored().unwrap().interfaces.iter().any(|i| i.index == LAN.0 && i.name == "lan0"));
}
